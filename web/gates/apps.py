from django.apps import AppConfig


class GatesConfig(AppConfig):
    name = "web.gates"

    def ready(self):
        from web.gates.gate import lies_around, standing
        from web.gates.parts import PARTS
        from web.shows.steps import Step, register
        from web.shows.views import register_around

        register_around(lies_around)

        register(
            Step(
                "gate",
                "gate",
                standing,
                PARTS,
                urls="web.gates.urls",
                show_urls="web.gates.show_urls",
            )
        )
