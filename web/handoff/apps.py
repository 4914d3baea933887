from django.apps import AppConfig


class HandoffConfig(AppConfig):
    name = "web.handoff"

    def ready(self):
        from web.gates.across import register_column
        from web.handoff.cameras import standing
        from web.handoff.parts import PARTS
        from web.handoff.remembered import recipes
        from web.shows.steps import Step, register

        register_column("recipe", "Handed off by", recipes)
        register(
            Step(
                "hand-off",
                "handoff",
                standing,
                PARTS,
                urls="web.handoff.urls",
                show_urls="web.handoff.show_urls",
            )
        )
