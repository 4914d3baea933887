"""How far the Elements step is."""

from django.db.models import Count, Max, QuerySet, Sum

from web.shows.steps import Standing
from web.ui.prepared import Prepared


def _renders(**of) -> QuerySet:
    from web.elements.models import Render

    return Render.objects.filter(**of)


def _counted(**of) -> QuerySet:
    rows = _renders(**of).order_by().values("shot")
    return rows.annotate(count=Count("pk"), newest=Max("pk"), total=Sum("pk"))


_counted_of_one = Prepared(lambda shot: _counted(shot=shot))


def standing(shot) -> Standing:
    """Settled with a render of what stands now; needs the artist where it is of an older camera."""
    from web.elements.actions import source_digest
    from web.elements.queries import newest_renders

    newest = next(iter(newest_renders(shot)), None)
    if newest is None:
        return Standing("nothing", "nothing rendered")
    return (
        Standing("settled", "rendered")
        if newest.digest == source_digest(shot.state)
        else Standing("needs", "render is old")
    )


def renders_of(ids: list[int]) -> dict[int, str]:
    """What tells whether renders came or went, for each of some shots: standings depend on it."""
    rows = _counted_of_one(ids[0]) if len(ids) == 1 else _counted(shot__in=ids)
    return {row["shot"]: f"{row['count']} {row['newest']} {row['total']}" for row in rows}
