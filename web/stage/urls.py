from django.urls import path

from web.stage import camera_views, views, worn

urlpatterns = [
    path("set", views.stage, name="set"),
    path("set/drag", views.drag, name="set-drag"),
    path("set/place", views.place, name="set-place"),
    path("set/plan", views.plan, name="set-plan"),
    path("set/mesh", views.mesh, name="set-mesh"),
    path("set/card", camera_views.card, name="set-card"),
    path("set/camera", camera_views.camera, name="set-camera"),
    path("set/camera/typed", camera_views.typed, name="set-camera-typed"),
    path("set/camera/looks", camera_views.looks, name="set-camera-looks"),
    path("set/path.json", views.path_in_set, name="set-path"),
    path("set/seen.json", views.seen_along, name="set-seen"),
    path("set/worn", worn.for_set_view, name="set-worn"),
    path("set/textures.zip", worn.textures, name="set-textures"),
    path("set/<str:id_>/shift", views.shift, name="set-shift"),
    path("set/<str:id_>/<str:name>", views.verb, name="set-verb"),
]
