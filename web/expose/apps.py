from django.apps import AppConfig


class ExposeConfig(AppConfig):
    name = "web.expose"

    def ready(self):
        from web.expose.exposure import standing
        from web.expose.parts import PARTS
        from web.shows.steps import Step, register

        register(Step("expose", "expose", standing, PARTS, urls="web.expose.urls"))
