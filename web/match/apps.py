from django.apps import AppConfig


class MatchConfig(AppConfig):
    name = "web.match"

    def ready(self):
        from web.match.standing import standing
        from web.shows.steps import register

        register("match", "match", standing)
