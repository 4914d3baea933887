from django.apps import AppConfig


class PlatesConfig(AppConfig):
    name = "web.plates"

    def ready(self):
        from web.plates.standing import standing
        from web.shows.steps import register

        register("plate", "plate", standing)
