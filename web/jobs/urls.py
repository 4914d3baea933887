from django.urls import path

from web.jobs import views

urlpatterns = [
    path("jobs/<slug:kind>/progress", views.progress, name="job-progress"),
    path("jobs/<slug:kind>/cancel", views.cancel, name="job-cancel"),
]
