from django.urls import path

from web.expose import blur_views, focus_views, look_views, views, white_views

urlpatterns = [
    path("expose", views.expose, name="expose"),
    path("expose/ev", views.ev, name="expose-ev"),
    path("expose/brighter", views.brighter, name="expose-brighter"),
    path("expose/meter", views.meter, name="expose-meter"),
    path("expose/pair", views.pair, name="expose-pair"),
    path("expose/map/<slug:kind>.png", views.laid, name="expose-map"),
    path("expose/white", white_views.white, name="expose-white"),
    path("expose/white/patch", white_views.patch, name="expose-white-patch"),
    path("expose/white/show", white_views.of_show, name="expose-white-show"),
    path("expose/focus", focus_views.focus, name="expose-focus"),
    path("expose/focus/set", focus_views.change, name="expose-focus-set"),
    path("expose/focus/at", focus_views.at, name="expose-focus-at"),
    path("expose/focus/follow", focus_views.follow, name="expose-focus-follow"),
    path("expose/focus/depth", focus_views.depth, name="expose-focus-depth"),
    path("expose/blur", blur_views.blur, name="expose-blur"),
    path("expose/blur/spots", blur_views.spots, name="expose-blur-spots"),
    path("expose/blur/picture", blur_views.picture, name="expose-blur-picture"),
    path("expose/blur/shutter", blur_views.shutter, name="expose-blur-shutter"),
    path("expose/blur/streak", blur_views.streak, name="expose-blur-streak"),
    path("expose/look", look_views.look, name="expose-look"),
    path("expose/look/switch", look_views.switch, name="expose-look-switch"),
    path("expose/look/table", look_views.table, name="expose-look-table"),
    path("expose/look/keep", look_views.keep, name="expose-look-keep"),
    path("expose/look/take", look_views.take, name="expose-look-take"),
    path("expose/look/file", look_views.file, name="expose-look-file"),
    path("expose/look/cube", look_views.cube, name="expose-look-cube"),
]
