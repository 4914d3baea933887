from django.urls import path

from web.handoff import straight, tables, views

urlpatterns = [
    path("hand-off", views.handoff, name="handoff"),
    path("hand-off/storyboard.jpg", views.storyboard_picture, name="storyboard-picture"),
    path("hand-off/contents", views.choose, name="handoff-contents"),
    path("hand-off/straight", straight.pictures, name="handoff-straight"),
    path("hand-off/straight.mp4", straight.movie, name="handoff-straight-movie"),
    path("hand-off/table", tables.table, name="handoff-table"),
    path("hand-off/table/preview", tables.preview, name="handoff-preview"),
    path("hand-off/recipes", tables.export, name="handoff-recipes"),
    path("hand-off/recipes/keep", tables.keep, name="handoff-keep"),
    path("hand-off/recipes/take", tables.take, name="handoff-recipes-take"),
    path("hand-off/recipes/<int:number>/remove", tables.remove, name="handoff-recipe-remove"),
    path("hand-off/camera.<str:ending>", views.file, name="handoff-file"),
]
