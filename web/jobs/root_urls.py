from django.urls import path

from web.jobs import status

urlpatterns = [
    path("healthz", status.healthz, name="healthz"),
    path("status", status.status, name="status"),
]
