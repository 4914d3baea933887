from django.apps import AppConfig


class LineupConfig(AppConfig):
    name = "web.lineup"

    def ready(self):
        from web.blobs.in_use import register_sweep
        from web.expose.rendered import register_render
        from web.lineup.snapshots import newest_over_plate
        from web.lineup.standing import standing
        from web.shows import thinning
        from web.shows.steps import Step, register

        register_render(newest_over_plate)
        register(Step("line-up", "lineup", standing, urls="web.lineup.urls"))
        thinning.keep_for(revisions_kept)
        register_sweep(sweep)


def sweep(_seconds, dry_run):
    """Remove renders that were brought back and thrown away long ago."""
    from web.lineup.models import Returned
    from web.shows.thrown import swept

    return swept(Returned, dry_run)


def revisions_kept(shot):
    """The revisions that snapshots were made from."""
    from web.lineup.models import Snapshot

    return Snapshot.objects.filter(shot=shot).values_list("revision", flat=True)
