from django.apps import AppConfig


class CutConfig(AppConfig):
    name = "web.cut"

    def ready(self):
        from web.cut import retimed
        from web.cut.parts import PARTS
        from web.plates.film_page import register_about
        from web.plates.frames import register_kept
        from web.shows import state

        state.register(*PARTS)
        register_about(retimed.told)
        register_kept(lambda *turned: None, retimed.let_go)
