from django.apps import AppConfig


class HandoffConfig(AppConfig):
    name = "web.handoff"

    def ready(self):
        from web.handoff.cameras import standing
        from web.handoff.parts import PARTS
        from web.shows.steps import Step, register

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
