from django.apps import AppConfig


class ParcelsConfig(AppConfig):
    name = "web.parcels"
