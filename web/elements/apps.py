from django.apps import AppConfig


class ElementsConfig(AppConfig):
    name = "web.elements"

    def ready(self):
        from web.elements.standing import standing
        from web.shows.steps import register

        register("elements", "elements", standing)
