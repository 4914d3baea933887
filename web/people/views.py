"""Signing in and out, one's own account, and coming in by an invitation or a viewer's link."""

from django.contrib.auth import login, update_session_auth_hash
from django.contrib.auth.forms import PasswordChangeForm
from django.contrib.auth.views import LoginView, LogoutView
from django.db import transaction
from django.http import HttpRequest, HttpResponse
from django.shortcuts import redirect, render
from django.utils import timezone
from django.views.decorators.debug import sensitive_post_parameters

from aperture.errors import Problem
from web.people.forms import WelcomeForm
from web.people.models import Invitation, Link, Member
from web.people.tickets import GONE, digest_of, log

TOO_OFTEN = "That was tried too often. Wait a quarter of an hour, then sign in again."
BACKEND = "django.contrib.auth.backends.ModelBackend"


class SignIn(LoginView):
    """The form; a right password begins a fresh session."""

    template_name = "people/sign_in.html"
    redirect_authenticated_user = False

    def form_valid(self, form):
        """Signed in."""
        answer = super().form_valid(form)
        log(
            "signed in",
            f"{form.get_user()} signed in",
            address=self.request.META.get("REMOTE_ADDR"),
        )
        return answer


class SignOut(LogoutView):
    """Ends the session; POST only, as Django has it."""

    next_page = "/"


def locked_out(request: HttpRequest, *_given, **_more) -> HttpResponse:
    """The answer to attempts that are too many."""
    log("locked out", "Too many attempts to sign in", address=request.META.get("REMOTE_ADDR"))
    return render(request, "people/sign_in.html", {"too_often": TOO_OFTEN}, status=429)


@sensitive_post_parameters()
def account(request):
    """One's own name, shows, and password."""
    form = PasswordChangeForm(request.user, request.POST or None)
    if request.method == "POST" and form.is_valid():
        form.save()
        update_session_auth_hash(request, form.user)
        log("password", f"{request.user} changed their password")
        return redirect("account")
    context = {
        "form": form,
        "memberships": Member.objects.filter(user=request.user).select_related("show"),
    }
    return render(request, "people/account.html", context, status=422 if form.errors else 200)


@sensitive_post_parameters()
def welcome(request, secret):
    """Make an account by an invitation, which is used up by it."""
    row = Invitation.objects.filter(digest=digest_of(secret)).select_related("show").first()
    if row is None or not row.holds:
        raise Problem(GONE)
    form = WelcomeForm(request.POST or None)
    if request.method == "POST" and form.is_valid():
        with transaction.atomic():
            used = Invitation.objects.filter(pk=row.pk, used=None).update(used=timezone.now())
            if not used:
                raise Problem(GONE)
            user = form.save(commit=False)
            user.is_superuser = row.admin
            user.save()
            if row.show_id:
                Member.objects.create(show=row.show, user=user, role=row.role, by=row.by)
        login(request, user, BACKEND)
        log("account", f"{user} came by an invitation", row.show, request.META.get("REMOTE_ADDR"))
        return redirect(row.show or "shows")
    context = {"form": form, "show": row.show}
    return render(request, "people/welcome.html", context, status=422 if form.errors else 200)


def see(request, secret):
    """Come in by a viewer's link: the browser keeps that it holds it, until it ends."""
    row = Link.objects.filter(digest=digest_of(secret)).select_related("show", "shot").first()
    if row is None or not row.holds:
        raise Problem(GONE)
    if row.seen is None:
        Link.objects.filter(pk=row.pk).update(seen=timezone.now())
    kept = request.session.get("links", [])
    request.session["links"] = [*{*kept, row.pk}][-20:]
    if row.shot is None:
        return redirect("show-storyboard", row.show.slug)
    return redirect(row.shot.url("lineup" if row.kind == Link.SHOT else "handoff"))
