from django.apps import AppConfig


class PlatesConfig(AppConfig):
    name = "web.plates"

    def ready(self):
        from web.blobs.in_use import register_sweep
        from web.plates.parts import PARTS
        from web.plates.standing import standing
        from web.plates.sweeping import sweep
        from web.shows.steps import Step, register

        register_sweep(sweep)
        register(Step("plate", "plate", standing, PARTS, root_urls="web.plates.urls"))
