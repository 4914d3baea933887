from django.urls import path

from web.moves import views

urlpatterns = [
    path("moves", views.moves, name="moves"),
    path("moves/take", views.take, name="moves-take"),
    path("moves/<str:id_>/understand", views.understand, name="moves-understand"),
    path("moves/<str:id_>/rename", views.rename, name="moves-rename"),
    path("moves/<str:id_>/remove", views.remove, name="moves-remove"),
    path("moves/<str:id_>/serve", views.serve, name="moves-serve"),
    path("moves/<str:id_>/into-set", views.into_set, name="moves-into-set"),
    path("moves/<str:id_>/seen", views.seen, name="moves-seen"),
]
