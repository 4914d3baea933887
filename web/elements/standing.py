"""How far the Elements step is."""

from django.db.models import Count, Max, Sum

from web.shows.steps import Standing


def standing(shot) -> Standing:
    """Settled with a render of what stands now; needs the artist where it is of an older camera."""
    from web.elements.actions import source_digest

    newest = shot.renders.first()
    if newest is None:
        return Standing("nothing", "nothing rendered")
    return (
        Standing("settled", "rendered")
        if newest.digest == source_digest(shot.state)
        else Standing("needs", "render is old")
    )


def renders_of(ids: list[int]) -> dict[int, str]:
    """What tells whether renders came or went, for each of some shots: standings depend on it."""
    from web.elements.models import Render

    rows = Render.objects.filter(shot__in=ids).order_by().values("shot")
    rows = rows.annotate(count=Count("pk"), newest=Max("pk"), total=Sum("pk"))
    return {row["shot"]: f"{row['count']} {row['newest']} {row['total']}" for row in rows}
