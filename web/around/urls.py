from django.urls import path

from web.around import views

urlpatterns = [
    path("around", views.page, name="around"),
    path("around/cube", views.as_cube, name="around-cube"),
    path("around/own", views.as_own, name="around-own"),
    path("around/views.zip", views.written, name="around-zip"),
    path("around/faces", views.faces, name="around-faces"),
    path("around/join", views.join, name="around-join"),
    path("around/render", views.render_here, name="around-render"),
]
