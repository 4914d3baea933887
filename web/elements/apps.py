from django.apps import AppConfig


class ElementsConfig(AppConfig):
    name = "web.elements"

    def ready(self):
        from web.blobs.in_use import register_sweep
        from web.elements.standing import renders_of, standing
        from web.shows import thinning
        from web.shows.steps import Step, register

        register(
            Step("elements", "elements", standing, urls="web.elements.urls", outside=renders_of)
        )
        thinning.keep_for(revisions_kept)
        register_sweep(sweep)


def sweep(_seconds, dry_run):
    """Remove renders that were thrown away long ago."""
    from web.elements.models import Render
    from web.shows.thrown import swept

    return swept(Render, dry_run)


def revisions_kept(shot):
    """The revisions that renders were made from."""
    from web.elements.models import Render

    return Render.everything.filter(shot=shot).values_list("revision", flat=True)
