from django.apps import AppConfig


class StageConfig(AppConfig):
    name = "web.stage"

    def ready(self):
        from web.match.worlds import FOLLOWERS
        from web.shows.steps import Step, register
        from web.stage.follow import follow_world
        from web.stage.parts import PARTS
        from web.stage.stand_ins import standing

        if follow_world not in FOLLOWERS:
            FOLLOWERS.append(follow_world)
        register(Step("set", "set", standing, PARTS, urls="web.stage.urls"))
