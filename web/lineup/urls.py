from django.urls import path

from web.lineup import views

urlpatterns = [
    path("line-up", views.lineup, name="lineup"),
    path("line-up/keep", views.keep, name="lineup-keep"),
    path("line-up/snapshots/<int:number>", views.snapshot, name="lineup-snapshot"),
    path(
        "line-up/snapshots/<int:number>/remove",
        views.remove_snapshot,
        name="lineup-snapshot-remove",
    ),
    path("line-up/values", views.values, name="lineup-values"),
    path("line-up/plate-edges", views.edges, name="lineup-edges"),
    path("line-up/plate-edges/range", views.measure, name="lineup-measure"),
    path("line-up/returned/<int:number>/take", views.take, name="lineup-take"),
    path("line-up/return", views.bring_back, name="lineup-return"),
    path("line-up/returned/<int:number>/recount", views.recount, name="lineup-recount"),
    path("line-up/returned/<int:number>/remove", views.remove, name="lineup-remove"),
    path("line-up/returned/<int:number>/take-back", views.take_back, name="lineup-take-back"),
    path("line-up/returned/<int:number>/rename", views.rename, name="lineup-rename"),
    path("line-up/returned/<int:number>/<str:name>", views.file, name="lineup-file"),
]
