from django.apps import AppConfig


class StageConfig(AppConfig):
    name = "web.stage"

    def ready(self):
        from web.shows.steps import register
        from web.stage.stand_ins import standing

        register("set", "set", standing)
