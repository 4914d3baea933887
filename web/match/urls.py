from django.urls import path

from web.match import views

urlpatterns = [
    path("match", views.match, name="match"),
    path("match/preview", views.preview, name="match-preview"),
    path("match/save", views.save, name="match-save"),
    path("match/state", views.state, name="match-state"),
    path("match/document.json", views.document, name="match-document"),
    path("match/load", views.load, name="match-load"),
    path("match/fact/<slug:kind>", views.add_fact, name="match-fact"),
    path("match/focal", views.set_focal, name="match-focal"),
    path("match/mark/<str:id_>", views.mark, name="match-mark"),
    path("match/switch/<str:id_>", views.switch, name="match-switch"),
    path("match/widen/<str:id_>", views.widen, name="match-widen"),
    path("match/remove/<str:id_>", views.remove, name="match-remove"),
]
