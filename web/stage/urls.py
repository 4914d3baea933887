from django.urls import path

from web.stage import views

urlpatterns = [
    path("set", views.stage, name="set"),
    path("set/drag", views.drag, name="set-drag"),
    path("set/place", views.place, name="set-place"),
    path("set/plan", views.plan, name="set-plan"),
    path("set/mesh", views.mesh, name="set-mesh"),
    path("set/card", views.card, name="set-card"),
    path("set/<str:id_>/<str:name>", views.verb, name="set-verb"),
]
