from django.apps import AppConfig


class LineupConfig(AppConfig):
    name = "web.lineup"

    def ready(self):
        from web.lineup.standing import standing
        from web.shows.steps import register

        register("line-up", "lineup", standing)
