from django.apps import AppConfig


class ShowsConfig(AppConfig):
    name = "web.shows"

    def ready(self):
        from web.blobs import in_use
        from web.shows.thinning import blobs_in_use

        in_use.register(blobs_in_use)
