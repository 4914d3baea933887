from django.apps import AppConfig


class StereoConfig(AppConfig):
    name = "web.stereo"

    def ready(self):
        from web.elements.actions import register_pair
        from web.shows import state
        from web.stereo.parts import PARTS
        from web.stereo.settings import pair_of

        state.register(*PARTS)
        register_pair(pair_of)
