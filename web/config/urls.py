"""Where each app's pages hang."""

from django.urls import include, path

from web.gates.urls import show_patterns

SHOT = "shows/<slug:show>/<slug:shot>/"
urlpatterns = [
    path("", include("web.shows.urls")),
    path("", include("web.catalogue.urls")),
    path("", include("web.plates.urls")),
    path("shows/<slug:show>/", include(show_patterns)),
    path(SHOT, include("web.jobs.urls")),
    path(SHOT, include("web.gates.urls")),
    path(SHOT, include("web.match.urls")),
    path(SHOT, include("web.stage.urls")),
    path(SHOT, include("web.elements.urls")),
    path(SHOT, include("web.lineup.urls")),
    path(SHOT, include("web.handoff.urls")),
]
