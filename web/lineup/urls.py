from django.urls import path

from web.lineup import views

urlpatterns = [
    path("line-up", views.lineup, name="lineup"),
    path("line-up/return", views.bring_back, name="lineup-return"),
    path("line-up/returned/<int:number>/remove", views.remove, name="lineup-remove"),
    path("line-up/returned/<int:number>/<str:name>", views.file, name="lineup-file"),
]
