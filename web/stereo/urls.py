from django.urls import path

from web.stereo import views

urlpatterns = [
    path("stereo/plate", views.plate, name="stereo-plate"),
    path("stereo/baseline", views.baseline, name="stereo-baseline"),
    path("stereo", views.page, name="stereo"),
    path("stereo/key", views.key, name="stereo-key"),
    path("stereo/cameras.zip", views.cameras, name="stereo-cameras"),
    path("stereo/render", views.render_eyes, name="stereo-render"),
    path("stereo/packed.<str:ending>", views.picture, name="stereo-packed"),
]
