from django.urls import path

from web.shows import managing, views

urlpatterns = [
    path("", views.shows, name="shows"),
    path("shows/<slug:show>/", views.board, name="show"),
    path("shows/<slug:show>/settings", managing.show_settings, name="show-settings"),
    path("shows/<slug:show>/rate", managing.show_rate, name="show-rate"),
    path("shows/<slug:show>/keep/<slug:verb>", managing.show_verb, name="show-verb"),
    path("shows/<slug:show>/<slug:shot>/settings", managing.shot_settings, name="shot-settings"),
    path("shows/<slug:show>/<slug:shot>/keep/<slug:verb>", managing.shot_verb, name="shot-verb"),
    path("shows/<slug:show>/<slug:shot>/history", views.told_history, name="history"),
    path("shows/<slug:show>/<slug:shot>/undo", views.undo, name="undo"),
    path("shows/<slug:show>/<slug:shot>/redo", views.redo, name="redo"),
    path("shows/<slug:show>/<slug:shot>/lock", views.lock, name="lock"),
    path("shows/<slug:show>/<slug:shot>/restore/<int:number>", views.restore, name="restore"),
    path(
        "shows/<slug:show>/<slug:shot>/revisions/<int:number>/name",
        views.name_revision,
        name="revision-name",
    ),
]
