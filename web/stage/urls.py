from django.urls import path

from web.stage import views

urlpatterns = [
    path("set", views.stage, name="set"),
    path("set/drag", views.drag, name="set-drag"),
    path("set/place", views.place, name="set-place"),
    path("set/remove/<str:id_>", views.remove, name="set-remove"),
]
