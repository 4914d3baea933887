from django.urls import path

from web.notes import views

urlpatterns = [
    path("notes", views.page, name="notes"),
    path("notes/pin", views.pin, name="note-pin"),
    path("notes/<int:pk>/answer", views.answer, name="note-answer"),
    path("notes/<int:pk>/tick", views.tick, name="note-tick"),
]
