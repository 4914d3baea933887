"""Where each app's pages hang. The steps bring their own addresses."""

from django.urls import include, path

from web.shows import steps

urlpatterns = [
    path("", include("web.people.urls")),
    path("", include("web.parcels.urls")),
    path("", include("web.cut.urls")),
    path("", include("web.shows.urls")),
    path("", include("web.catalogue.urls")),
    path("", include("web.jobs.root_urls")),
    path(steps.SHOT, include("web.jobs.urls")),
    path(steps.SHOT, include("web.moves.urls")),
    path(steps.SHOT, include("web.around.urls")),
    path(steps.SHOT, include("web.stereo.urls")),
    path(steps.SHOT, include("web.notes.urls")),
    *steps.urlpatterns(),
]
