from django.urls import path

from web.lineup import views

urlpatterns = [path("line-up", views.lineup, name="lineup")]
