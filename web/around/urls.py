from django.urls import path

from web.around import views

urlpatterns = [
    path("around", views.page, name="around"),
    path("around/cube", views.as_cube, name="around-cube"),
    path("around/own", views.as_own, name="around-own"),
    path("around/views.zip", views.written, name="around-zip"),
    path("around/faces", views.faces, name="around-faces"),
    path("around/join", views.join, name="around-join"),
    path("around/steady", views.steady, name="around-steady"),
    path("around/steady/where", views.steady_where, name="around-steady-where"),
    path("around/steady.jpg", views.steady_picture, name="around-steady-picture"),
    path("around/render", views.render_here, name="around-render"),
]
