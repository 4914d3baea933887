from django.urls import path, register_converter

from web.catalogue import views
from web.catalogue.models import KINDS


class Kind:
    regex = "|".join(KINDS)

    def to_python(self, value):
        return value

    def to_url(self, value):
        return value


register_converter(Kind, "kind")
urlpatterns = [
    path("catalogue/", views.catalogue, name="catalogue"),
    path("catalogue/import", views.bring_in, name="catalogue-import"),
    path("catalogue/files/<str:name>", views.file, name="catalogue-file"),
    path("catalogue/database", views.database, name="catalogue-database"),
    path("catalogue/<kind:kind>/new", views.entry, name="catalogue-new"),
    path("catalogue/<kind:kind>/<int:pk>", views.entry, name="catalogue-entry"),
    path("catalogue/<kind:kind>/<int:pk>/<str:verb>", views.verb, name="catalogue-verb"),
    path("catalogue/body/<int:pk>/mode/<int:index>", views.mode, name="catalogue-mode"),
]
