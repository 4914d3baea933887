from django.apps import AppConfig


class PlatesConfig(AppConfig):
    name = "web.plates"

    def ready(self):
        from web.plates.parts import PARTS
        from web.plates.standing import standing
        from web.shows.steps import Step, register

        register(Step("plate", "plate", standing, PARTS, root_urls="web.plates.urls"))
