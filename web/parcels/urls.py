from django.urls import path

from web.parcels import views

urlpatterns = [
    path("parcels/take", views.take_show, name="parcel-take-show"),
    path("shows/<slug:show>/parcel.zip", views.show, name="parcel-show"),
    path("shows/<slug:show>/parcels/take", views.take_shots, name="parcel-take-shots"),
    path("shows/<slug:show>/<slug:shot>/parcel.zip", views.shot, name="parcel-shot"),
]
