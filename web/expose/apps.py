from django.apps import AppConfig


class ExposeConfig(AppConfig):
    name = "web.expose"

    def ready(self):
        from web.blobs.in_use import register as in_use
        from web.expose import across
        from web.expose.exposure import standing
        from web.expose.focusing import planes
        from web.expose.models import looks_in_use
        from web.expose.parts import PARTS
        from web.gates.across import register_column
        from web.shows.steps import Step, register
        from web.stage.cameras import register_planes

        in_use(looks_in_use)
        register_planes(planes)
        register_column("shutter", "Shutter", across.shutters)
        register_column("look", "Look", across.looks)
        register(Step("expose", "expose", standing, PARTS, urls="web.expose.urls"))
