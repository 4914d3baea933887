from django.urls import path, re_path

from web.cut import views

urlpatterns = [
    path("shows/<slug:show>/cut", views.cut, name="cut"),
    path("shows/<slug:show>/cut/do", views.do, name="cut-do"),
    re_path(r"^shows/(?P<show>[\w-]+)/cut/(?P<verb>undo|redo)$", views.step, name="cut-step"),
    re_path(r"^shows/(?P<show>[\w-]+)/cut/cut\.(?P<kind>otio|edl)$", views.file, name="cut-file"),
    path(
        "shows/<slug:show>/<slug:shot>/cut-pictures/<int:frame>.jpg",
        views.picture,
        name="cut-picture",
    ),
    path("shows/<slug:show>/cut/sound.wav", views.sound, name="cut-sound"),
    path("shows/<slug:show>/cut/sound", views.take_sound, name="cut-sound-take"),
    path("shows/<slug:show>/cut/movie", views.make_movie, name="cut-movie-make"),
    path("shows/<slug:show>/cut/cut.mp4", views.movie, name="cut-movie"),
    path("shows/<slug:show>/cut/retime", views.retime, name="cut-retime"),
    path("shows/<slug:show>/<slug:shot>/retime", views.retime_anew, name="cut-retime-anew"),
    path("shows/<slug:show>/cut/take", views.take, name="cut-take"),
]
