from django.apps import AppConfig


class MovesConfig(AppConfig):
    name = "web.moves"

    def ready(self):
        from web.match.path_fits import register_given, register_served
        from web.match.worlds import FOLLOWERS
        from web.moves.kept import as_evidence, follow_world, serving
        from web.moves.parts import PARTS
        from web.shows import state

        state.register(*PARTS)
        register_served(serving)
        register_given(as_evidence)
        if follow_world not in FOLLOWERS:
            FOLLOWERS.append(follow_world)
