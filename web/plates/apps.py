from django.apps import AppConfig


class PlatesConfig(AppConfig):
    name = "web.plates"

    def ready(self):
        from web.plates.parts import PARTS
        from web.plates.standing import standing
        from web.shows import state
        from web.shows.steps import register

        register("plate", "plate", standing)
        state.register(*PARTS)
