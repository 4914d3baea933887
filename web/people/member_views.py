"""The people of a show, for those who lead it; the accounts of the installation, for those who keep
it; the audit log."""

from django.contrib.auth.models import User
from django.core.paginator import Paginator
from django.shortcuts import get_object_or_404, redirect, render
from django.utils import timezone
from django.views.decorators.http import require_GET, require_POST

from aperture.errors import Problem
from web.people.access import LOCAL_ARTIST
from web.people.forms import InviteForm, LinkForm, MemberForm
from web.people.models import LEADS, Event, Invitation, Member
from web.people.tickets import give, invite, log, take_back
from web.shows.models import Show

NOBODY_LEADS = "Somebody has to lead the show: make another one the lead first."


def _show(slug: str) -> Show:
    return get_object_or_404(Show.objects.kept(), slug=slug)


@require_GET
def people(request, show):
    """Members, invitations, links, and what was done about them."""
    return _page(request, _show(show))


def _page(request, show, status=200, **forms):
    now = timezone.now()
    context = {
        "show": show,
        "members": show.members.select_related("user", "by"),
        "invitations": show.invitations.filter(used=None, taken_back=None, ends__gt=now),
        "links": show.links.filter(taken_back=None, ends__gt=now).select_related("shot", "by"),
        "events": Event.objects.filter(show=show).select_related("by")[:40],
        "member_form": MemberForm(),
        "invite_form": InviteForm(),
        "link_form": LinkForm(show=show),
    }
    return render(request, "people/people.html", context | forms, status=status)


@require_POST
def put(request, show):
    """Give somebody a role, or take them out."""
    show, form = _show(show), MemberForm(request.POST)
    if not form.is_valid():
        return _page(request, show, 422, member_form=form)
    user, role = form.cleaned_data["name"], form.cleaned_data["role"]
    others = show.members.filter(role=LEADS).exclude(user=user)
    if (
        role != LEADS
        and not others.exists()
        and show.members.filter(user=user, role=LEADS).exists()
    ):
        raise Problem(NOBODY_LEADS)
    if role:
        Member.objects.update_or_create(show=show, user=user, defaults={"role": role})
        log("member", f"{user} {role} now", show)
    else:
        Member.objects.filter(show=show, user=user).delete()
        log("member", f"{user} is no member any more", show)
    return redirect("people-of-show", show.slug)


@require_POST
def invitation(request, show):
    """Invite somebody: the address is shown this once."""
    show, form = _show(show), InviteForm(request.POST)
    if not form.is_valid():
        return _page(request, show, 422, invite_form=form)
    _, secret = invite(show, form.cleaned_data["role"])
    return _page(request, show, given=request.build_absolute_uri(f"/welcome/{secret}"))


@require_POST
def link(request, show):
    """Give a viewer's link out: its address is shown this once."""
    show = _show(show)
    form = LinkForm(request.POST, show=show)
    if not form.is_valid():
        return _page(request, show, 422, link_form=form)
    data = form.cleaned_data
    try:
        _, secret = give(show, data["shot"], data["kind"], data["ends"])
    except Problem as problem:
        form.add_error(problem.place or None, problem.sentence)
        return _page(request, show, 422, link_form=form)
    return _page(request, show, given=request.build_absolute_uri(f"/see/{secret}"))


@require_POST
def ticket(request, show, kind, pk):
    """Take an invitation or a link back."""
    show = _show(show)
    take_back(show, kind, pk)
    return redirect("people-of-show", show.slug)


def accounts(request):
    """All accounts; POST invites to a new one."""
    given = ""
    if request.method == "POST":
        _, secret = invite(None, admin=bool(request.POST.get("admin")))
        given = request.build_absolute_uri(f"/welcome/{secret}")
    users = (
        User.objects.exclude(username=LOCAL_ARTIST)
        .order_by("username")
        .prefetch_related("member_of__show")
    )
    waiting = Invitation.objects.filter(
        show=None, used=None, taken_back=None, ends__gt=timezone.now()
    )
    context = {"users": users, "given": given, "waiting": waiting}
    return render(request, "people/accounts.html", context)


@require_POST
def account_verb(request, pk, verb):
    """Close an account, open it again, or make it one that keeps the installation."""
    user = get_object_or_404(User.objects.exclude(username=LOCAL_ARTIST), pk=pk)
    keepers = User.objects.filter(is_superuser=True, is_active=True).exclude(username=LOCAL_ARTIST)
    changes = {
        "close": {"is_active": False},
        "open": {"is_active": True},
        "keeper": {"is_superuser": True},
        "no-keeper": {"is_superuser": False},
    }.get(verb)
    if changes is None:
        raise Problem("That can't be done with an account.")
    if verb in ("close", "no-keeper") and user.is_superuser and not keepers.exclude(pk=pk).exists():
        raise Problem("Somebody has to keep the installation: let another account do it first.")
    User.objects.filter(pk=pk).update(**changes)
    log("account", f"{user}: {verb}")
    return redirect("accounts")


@require_GET
def audit(request):
    """The audit log of the installation."""
    rows = Paginator(Event.objects.select_related("by", "show"), 100).get_page(
        request.GET.get("page")
    )
    return render(request, "people/audit.html", {"rows": rows})
