from django.urls import path

from web.gates import views

urlpatterns = [path("gate", views.gate, name="gate")]
