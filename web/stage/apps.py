from django.apps import AppConfig


class StageConfig(AppConfig):
    name = "web.stage"

    def ready(self):
        from web.match.worlds import FOLLOWERS
        from web.shows import state
        from web.shows.steps import register
        from web.stage.follow import follow_world
        from web.stage.parts import PARTS
        from web.stage.stand_ins import standing

        FOLLOWERS[:] = [follow_world]
        register("set", "set", standing)
        state.register(*PARTS)
