from django.urls import path

from web.gates import across

urlpatterns = [
    path("cameras", across.cameras, name="cameras"),
    path("cameras/align/<slug:shot>", across.align, name="cameras-align"),
]
