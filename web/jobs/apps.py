from django.apps import AppConfig


class JobsConfig(AppConfig):
    name = "web.jobs"

    def ready(self):
        from web.blobs import in_use
        from web.jobs.runner import blobs_in_use
        from web.shows import thinning

        in_use.register(blobs_in_use)
        thinning.keep_for(revisions_at_work)


def revisions_at_work(shot):
    """While work is under way, nobody knows which revision it began from but itself: all stay."""
    if any(job.under_way for job in shot.jobs.all()):
        return shot.revisions.values_list("number", flat=True)
    return []
