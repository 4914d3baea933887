from django.urls import path, re_path

from web.plates import views

urlpatterns = [
    path("shows/<slug:show>/<slug:shot>/plate", views.plate, name="plate"),
    path("shows/<slug:show>/photographs", views.photographs, name="photographs"),
    path("shows/<slug:show>/<slug:shot>/plate/facts", views.facts, name="plate-facts"),
    re_path(
        r"^plates/(?P<digest>[0-9a-f]{64})/(?P<which>proxy|thumb)\.jpg$",
        views.picture,
        name="picture",
    ),
    re_path(
        r"^plates/(?P<digest>[0-9a-f]{64})/tile/(?P<column>\d{1,5})/(?P<row>\d{1,5})\.png$",
        lambda request, digest, column, row: views.tile(request, digest, int(column), int(row)),
        name="tile",
    ),
]
