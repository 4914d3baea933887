"""Where each app's pages hang."""

from django.urls import include, path

SHOT = "shows/<slug:show>/<slug:shot>/"
urlpatterns = [
    path("", include("web.shows.urls")),
    path("", include("web.plates.urls")),
    path(SHOT, include("web.gates.urls")),
    path(SHOT, include("web.match.urls")),
    path(SHOT, include("web.stage.urls")),
    path(SHOT, include("web.lineup.urls")),
    path(SHOT, include("web.handoff.urls")),
]
