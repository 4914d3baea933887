from django.urls import path

from web.handoff import views

urlpatterns = [
    path("sheets.pdf", views.sheets, name="show-sheets"),
    path("storyboard.pdf", views.storyboard, name="show-storyboard"),
    path("storyboard", views.storyboard_page, name="storyboard"),
    path("notes.csv", views.notes, name="show-notes"),
]
