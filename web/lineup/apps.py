from django.apps import AppConfig


class LineupConfig(AppConfig):
    name = "web.lineup"

    def ready(self):
        from web.expose.rendered import register_render
        from web.lineup.snapshots import newest_over_plate
        from web.lineup.standing import standing
        from web.shows import thinning
        from web.shows.steps import Step, register

        register_render(newest_over_plate)
        register(Step("line-up", "lineup", standing, urls="web.lineup.urls"))
        thinning.keep_for(revisions_kept)


def revisions_kept(shot):
    """The revisions that snapshots were made from."""
    from web.lineup.models import Snapshot

    return Snapshot.objects.filter(shot=shot).values_list("revision", flat=True)
