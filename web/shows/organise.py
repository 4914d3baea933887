"""Order among shows and shots: rename, move, copy, archive, delete and bring back.

None of it touches a revision: what an artist matched stays as it is under another name.
"""

from django.db import IntegrityError, transaction
from django.db.models import Q, QuerySet
from django.utils import timezone
from django.utils.text import slugify

from aperture.errors import Problem
from web.shows.history import begin
from web.shows.models import Shot, Show

SORTS = {
    "code": ("Code", ("code",)),
    "newest": ("Newest first", ("-created",)),
    "oldest": ("Oldest first", ("created",)),
    "changed": ("Last changed", ("-head__created",)),
}
SHOW_SORTS = {
    "newest": ("Newest first", ("-created",)),
    "name": ("Name", ("name",)),
    "oldest": ("Oldest first", ("created",)),
}


def found_shots(show: Show, text: str, sort: str, archived: bool) -> QuerySet:
    """A show's shots whose code or description holds `text`."""
    shots = show.shots.with_head().kept().filter(archived=archived)
    if text:
        shots = shots.filter(Q(code__icontains=text) | Q(description__icontains=text))
    return shots.order_by(*SORTS.get(sort, SORTS["code"])[1])


def found_shows(text: str, sort: str, archived: bool) -> QuerySet:
    """The shows whose name holds `text`, or the code of one of whose shots does."""
    shows = Show.objects.visible().kept().filter(archived=archived)
    if text:
        shots = Shot.objects.kept().filter(code__icontains=text).values("show")
        shows = shows.filter(Q(name__icontains=text) | Q(pk__in=shots))
    return shows.order_by(*SHOW_SORTS.get(sort, SHOW_SORTS["newest"])[1])


def rename_shot(shot: Shot, show: Show, code: str, written: dict[str, str]) -> Shot:
    """Another code or show, and what is written about it. Raises Problem where the code is taken
    there.
    """
    shot.show, shot.code = show, code
    for name, text in written.items():
        setattr(shot, name, text)
    try:
        with transaction.atomic():
            shot.save(update_fields=["show", "code", *written])
    except IntegrityError:
        raise Problem(f"There is a shot {code} in “{show.name}” already.", "code") from None
    return shot


def free_code(show: Show, wanted: str) -> str:
    """A code, counted on where a shot of the show has it."""
    taken = {code.lower() for code in show.shots.values_list("code", flat=True)}
    code, number = wanted, 2
    while code.lower() in taken:
        code, number = f"{wanted[:34]}-{number}", number + 1
    return code


def free_slug(name: str) -> str:
    """The part of the address that a new show of some name gets."""
    base = slugify(name)[:50] or "show"
    taken = set(Show.objects.filter(slug__startswith=base).values_list("slug", flat=True))
    slugs = (base, *(f"{base}-{number}" for number in range(2, 10000)))
    return next(slug for slug in slugs if slug not in taken and slug != "new")


@transaction.atomic
def copy_shot(shot: Shot, show: Show | None = None) -> Shot:
    """A shot of its own that begins as another one stands; its history begins anew."""
    show = show or shot.show
    copy = Shot.objects.create(show=show, code=free_code(show, shot.code), **shot.written)
    label = f"Copy of {shot.show.name}, {shot.code}, revision {shot.head.number}"
    return begin(copy, label, shot.state)


@transaction.atomic
def copy_show(show: Show) -> Show:
    """A show with copies of all shots of another."""
    names = set(Show.objects.values_list("name", flat=True))
    slugs = set(Show.objects.values_list("slug", flat=True))
    number = 2
    while f"{show.name[:110]} {number}" in names or f"{show.slug[:50]}-{number}" in slugs:
        number += 1
    copy = Show.objects.create(
        name=f"{show.name[:110]} {number}",
        slug=f"{show.slug[:50]}-{number}",
        up_axis=show.up_axis,
        length_unit=show.length_unit,
        rate_numerator=show.rate_numerator,
        rate_denominator=show.rate_denominator,
    )
    for shot in show.shots.with_head().kept():
        copied = copy_shot(shot, copy)
        if shot.archived:
            set_archived(copied, True)
    return copy


def set_archived(item: Show | Shot, archived: bool) -> None:
    """Put out of the way, or back."""
    item.archived = archived
    item.save(update_fields=["archived"])


def set_deleted(item: Show | Shot, deleted: bool) -> None:
    """Delete, or bring back. Nothing is lost: what is deleted waits in its list."""
    item.deleted = timezone.now() if deleted else None
    item.save(update_fields=["deleted"])
