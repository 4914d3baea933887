from django.urls import path

from web.moves import align_views, rig_views, time_views, views

urlpatterns = [
    path("moves", views.moves, name="moves"),
    path("moves/take", views.take, name="moves-take"),
    path("moves/<str:id_>/understand", views.understand, name="moves-understand"),
    path("moves/<str:id_>/rename", views.rename, name="moves-rename"),
    path("moves/<str:id_>/remove", views.remove, name="moves-remove"),
    path("moves/<str:id_>/serve", views.serve, name="moves-serve"),
    path("moves/<str:id_>/into-set", views.into_set, name="moves-into-set"),
    path("moves/<str:id_>/seen", views.seen, name="moves-seen"),
    path("moves/rig", rig_views.rig, name="rig"),
    path("moves/rig/play", rig_views.played, name="rig-play"),
    path("moves/rig/file", rig_views.file, name="rig-file"),
    path("moves/rig/points", rig_views.points, name="rig-points"),
    path("moves/rig/send", rig_views.send, name="rig-send"),
    path("moves/<str:id_>/lag", time_views.measure, name="moves-lag"),
    path("moves/<str:id_>/align", align_views.align, name="moves-align"),
    path("moves/<str:id_>/points", align_views.points, name="moves-points"),
    path("moves/<str:id_>/sight", align_views.sight, name="moves-sight"),
    path("moves/<str:id_>/references", align_views.references, name="moves-references"),
    path("moves/<str:id_>/stand-typed", align_views.stand_typed, name="moves-stand-typed"),
    path("moves/<str:id_>/stand-referred", align_views.stand_referred, name="moves-stand-referred"),
    path("moves/<str:id_>/hand", align_views.hand, name="moves-hand"),
    path("moves/<str:id_>/stand", align_views.stand, name="moves-stand"),
]
