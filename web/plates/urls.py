from django.urls import path, re_path

from web.plates import film_views, media_views, views

urlpatterns = [
    path("shows/<slug:show>/<slug:shot>/plate", views.plate, name="plate"),
    path("shows/<slug:show>/photographs", views.photographs, name="photographs"),
    path("shows/<slug:show>/<slug:shot>/plate/facts", views.facts, name="plate-facts"),
    path(
        "shows/<slug:show>/<slug:shot>/plate/sequences", film_views.sequences, name="film-sequences"
    ),
    path("shows/<slug:show>/<slug:shot>/plate/frame", film_views.work_on, name="film-frame"),
    path("shows/<slug:show>/<slug:shot>/plate/shift", film_views.shift, name="film-shift"),
    path("shows/<slug:show>/<slug:shot>/plate/convert", film_views.convert, name="film-convert"),
    path("shows/<slug:show>/<slug:shot>/plate/mean", film_views.mean, name="film-mean"),
    path("shows/<slug:show>/<slug:shot>/plate/way-in", film_views.way_in, name="way-in"),
    path("shows/<slug:show>/<slug:shot>/plate/media", media_views.folder, name="media"),
    path(
        "shows/<slug:show>/<slug:shot>/plate/media/bring-in",
        media_views.bring_in,
        name="media-bring-in",
    ),
    path(
        "shows/<slug:show>/<slug:shot>/plate/flashes",
        film_views.look_for_flashes,
        name="film-flashes",
    ),
    path(
        "shows/<slug:show>/<slug:shot>/plate/clapper", film_views.set_by_flash, name="film-clapper"
    ),
    path("shows/<slug:show>/<slug:shot>/plate/range", film_views.mark_range, name="film-range"),
    path("shows/<slug:show>/<slug:shot>/plate/small", film_views.make_small, name="film-small"),
    re_path(
        r"^films/(?P<digest>[0-9a-f]{64})/(?P<kind>small|thumbs)/(?P<number>\d{1,9})\.jpg$",
        lambda request, digest, kind, number: film_views.small(request, digest, kind, int(number)),
        name="film-picture",
    ),
    re_path(
        r"^films/(?P<digest>[0-9a-f]{64})/tile/(?P<number>\d{1,9})"
        r"/(?P<column>\d{1,5})/(?P<row>\d{1,5})\.png$",
        lambda request, digest, number, column, row: film_views.tile(
            request, digest, int(number), int(column), int(row)
        ),
        name="film-tile",
    ),
    re_path(
        r"^plates/(?P<digest>[0-9a-f]{64})/(?P<which>proxy|thumb)\.jpg$",
        views.picture,
        name="picture",
    ),
    re_path(
        r"^plates/(?P<digest>[0-9a-f]{64})/tile/(?P<column>\d{1,5})/(?P<row>\d{1,5})\.png$",
        lambda request, digest, column, row: views.tile(request, digest, int(column), int(row)),
        name="tile",
    ),
]
