from django.urls import path

from web.lineup import views

urlpatterns = [
    path("line-up", views.lineup, name="lineup"),
    path("line-up/render", views.render, name="lineup-render"),
    path("line-up/progress", views.progress, name="lineup-progress"),
    path("line-up/cancel", views.cancel, name="lineup-cancel"),
    path("line-up/<int:number>/<str:name>", views.file, name="lineup-file"),
]
