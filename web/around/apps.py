from django.apps import AppConfig


class AroundConfig(AppConfig):
    name = "web.around"

    def ready(self):
        from web.around.parts import PARTS
        from web.shows import state

        state.register(*PARTS)
