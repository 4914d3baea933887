from django.urls import path

from web.expose import views

urlpatterns = [path("expose", views.expose, name="expose")]
