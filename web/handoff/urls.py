from django.urls import path

from web.handoff import views

urlpatterns = [
    path("hand-off", views.handoff, name="handoff"),
    path("hand-off/camera.<str:ending>", views.file, name="handoff-file"),
]
