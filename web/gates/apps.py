from django.apps import AppConfig


class GatesConfig(AppConfig):
    name = "web.gates"

    def ready(self):
        from web.gates.gate import standing
        from web.gates.parts import PARTS
        from web.shows import state
        from web.shows.steps import register

        register("gate", "gate", standing)
        state.register(*PARTS)
