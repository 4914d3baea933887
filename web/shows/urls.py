from django.urls import path

from web.shows import views

urlpatterns = [
    path("", views.shows, name="shows"),
    path("shows/<slug:show>/", views.board, name="show"),
    path("shows/<slug:show>/<slug:shot>/undo", views.undo, name="undo"),
    path("shows/<slug:show>/<slug:shot>/redo", views.redo, name="redo"),
    path("shows/<slug:show>/<slug:shot>/lock", views.lock, name="lock"),
    path("shows/<slug:show>/<slug:shot>/restore/<int:number>", views.restore, name="restore"),
]
