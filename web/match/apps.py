from django.apps import AppConfig


class MatchConfig(AppConfig):
    name = "web.match"

    def ready(self):
        from web.blobs import in_use
        from web.gates.gate import register_lens
        from web.match.fits import blobs_in_use
        from web.match.parts import PARTS
        from web.match.path_fits import lens_of_shot
        from web.match.standing import standing
        from web.match.tracking import let_go, turned
        from web.plates.frames import register_kept
        from web.shows.steps import Step, register

        register(Step("match", "match", standing, PARTS, urls="web.match.urls"))
        register_lens(lens_of_shot)
        in_use.register(blobs_in_use)
        register_kept(turned, let_go)
