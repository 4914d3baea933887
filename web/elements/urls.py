from django.urls import path

from web.elements import views

urlpatterns = [
    path("elements", views.elements, name="elements"),
    path("elements/order", views.order, name="elements-order"),
    path("elements/again", views.again, name="elements-again"),
    path("elements/<int:number>/remove", views.remove, name="elements-remove"),
    path("elements/<int:number>/take-back", views.take_back, name="elements-take-back"),
    path("elements/<int:number>/rename", views.rename, name="elements-rename"),
    path("elements/<int:number>/with-look.exr", views.with_look, name="elements-with-look"),
    path("elements/<int:number>/<str:name>", views.file, name="elements-file"),
]
