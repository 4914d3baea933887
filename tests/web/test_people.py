"""People: who sees and changes what, by every address; signing in, invitations, links; what is kept
of who did it."""

from datetime import timedelta

from django.contrib.auth.models import AnonymousUser, User
from django.contrib.sessions.backends.signed_cookies import SessionStore
from django.http import Http404
from django.test import RequestFactory, TestCase, TransactionTestCase, override_settings
from django.urls import get_resolver
from django.urls.resolvers import URLPattern
from django.utils import timezone

from tests.web.client import PageClient
from tests.web.test_shots import HasShot
from web.elements.actions import Order, render_now
from web.jobs.models import Job
from web.people import access
from web.people.middleware import Access
from web.people.models import Event, Invitation, Link, Member
from web.people.tickets import digest_of, give, invite
from web.shows.history import create_shot, edit
from web.shows.models import Revision, Shot, Show

PASSWORD = "Slipway-at-low-tide-7"
ROLES = ("nobody", "stranger", "looks", "works", "leads")
# What each of ROLES may, by the name of an address: GET and POST. Whatever isn't told here must
# belong to a show: it is looked at by those who look, and changed by those who work. An address
# that belongs to none and isn't told fails the test.
EVERYBODY, SIGNED, WHO_LOOK, WHO_WORK, WHO_LEAD, KEEPERS = (
    set(ROLES[n:]) for n in (0, 1, 2, 3, 4, 5)
)
TOLD = {
    "healthz": (EVERYBODY, EVERYBODY),
    "sign-in": (EVERYBODY, EVERYBODY),
    "welcome": (EVERYBODY, EVERYBODY),
    "see": (EVERYBODY, EVERYBODY),
    **dict.fromkeys(("shows", "sign-out", "account", "parcel-take-show"), (SIGNED, SIGNED)),
    **dict.fromkeys(("status", "accounts", "account-verb", "audit"), (KEEPERS, KEEPERS)),
    **dict.fromkeys(("picture", "tile", "film-picture", "film-tile"), (WHO_LOOK, WHO_LOOK)),
    **dict.fromkeys(
        (
            "catalogue",
            "catalogue-import",
            "catalogue-file",
            "catalogue-database",
            "catalogue-new",
            "catalogue-entry",
            "catalogue-verb",
            "catalogue-mode",
        ),
        (SIGNED, WHO_WORK),
    ),
    **dict.fromkeys(
        (
            "show-settings",
            "show-verb",
            "member-put",
            "member-invite",
            "link-give",
            "ticket-take-back",
            "handoff-recipe-remove",
            "handoff-recipes-take",
            "handoff-keep",
        ),
        (WHO_LOOK, WHO_LEAD),
    ),
    "people-of-show": (WHO_LEAD, WHO_LEAD),
    "media": (WHO_WORK, WHO_WORK),
    **dict.fromkeys(
        (
            "film-sequences",
            "handoff-preview",
            "match-path-guides",
            "match-preview",
            "match-state",
            "moves-try",
        ),
        (WHO_LOOK, WHO_LOOK),
    ),
}


def addresses(patterns=None, before=""):
    """(name, parameters, view) of every address of the application."""
    for one in get_resolver().url_patterns if patterns is None else patterns:
        if isinstance(one, URLPattern):
            yield one.name, set(one.pattern.regex.groupindex) | set(before), one.callback
        else:
            inner = [*before, *one.pattern.regex.groupindex]
            yield from addresses(one.url_patterns, inner)


@override_settings(LOCAL=False)
class Addresses(TestCase):
    def setUp(self):
        self.show = Show.objects.create(name="The Lantern Tide", slug="tide")
        shot = create_shot(self.show, "LT900")
        self.digest = "a" * 64
        edit(
            shot,
            "Plate",
            lambda state: state.update(
                plate={"digest": self.digest, "width": 9, "height": 9, "name": "a.jpg"}
            ),
        )
        self.people = {"nobody": AnonymousUser()}
        for role in ROLES[1:]:
            self.people[role] = user = User.objects.create_user(role)
            if role != "stranger":
                Member.objects.create(show=self.show, user=user, role=role)
        self.keeper = User.objects.create_superuser("keeper")

    def answer(self, user, name, method, kwargs, view):
        """None where the view may answer, else the status."""
        request = RequestFactory().generic(method, "/", headers={"Accept": "application/json"})
        request.user, request.session, request.htmx = user, SessionStore(), False
        request.keeps = access.is_admin(user)
        request.resolver_match = type("Match", (), {"url_name": name, "kwargs": kwargs})()
        try:
            found = Access(lambda _: None).process_view(request, view, (), kwargs)
        except Http404:
            return 404
        return found and found.status_code

    def test_every_address_for_everybody(self):
        """Nobody: 401. Who isn't a member: 404, as if there were no such show. Who is, but may not:
        403."""
        count = 0
        for name, parameters, view in addresses():
            samples = {"show": "tide", "shot": "LT900", "digest": self.digest, "verb": "archive"}
            kwargs = {key: samples.get(key, "1") for key in parameters}
            if name not in TOLD:
                self.assertIn("show", parameters, f"{name} has no rule: say who may see it")
            for method, may in zip(("GET", "POST"), TOLD.get(name, (WHO_LOOK, WHO_WORK))):
                hidden = "show" in parameters or "digest" in parameters
                for role, user in self.people.items():
                    wanted = None
                    if role not in may:
                        wanted = {"nobody": 401, "stranger": 404 if hidden else 403}.get(role, 403)
                    with self.subTest(name=name, method=method, role=role):
                        self.assertEqual(self.answer(user, name, method, kwargs, view), wanted)
                    count += 1
                self.assertIsNone(self.answer(self.keeper, name, method, kwargs, view), name)
        self.assertGreater(count, 2400)

    def test_only_leads_delete(self):
        for verb, wanted in (("delete", 403), ("restore", 403), ("copy", None), ("archive", None)):
            kwargs = {"show": "tide", "shot": "LT900", "verb": verb}
            for role, status in (("works", wanted), ("leads", None)):
                self.assertEqual(
                    self.answer(self.people[role], "shot-verb", "POST", kwargs, None), status
                )

    def test_an_address_of_a_show_that_is_not_there(self):
        kwargs = {"show": "no-such", "shot": "LT900"}
        for role in ("stranger", "looks", "leads"):
            self.assertEqual(self.answer(self.people[role], "plate", "GET", kwargs, None), 404)


@override_settings(LOCAL=False, AXES_ENABLED=True)
class People(HasShot, TransactionTestCase):
    def setUp(self):
        with override_settings(LOCAL=True):
            super().setUp()
            self.ready()
            crate = {
                "id": "b1",
                "name": "Crate",
                "size": [1, 1, 1],
                "base": [0, 0, 0],
                "turn_deg": 0,
            }
            edit(self.shot, "Crate", lambda state: state.update(stand_ins=[crate]))
        self.local = self.client
        self.show = Show.objects.get()
        self.clients = {}
        for role in ROLES[1:]:
            user = User.objects.create_user(role, password=PASSWORD)
            if role != "stranger":
                Member.objects.create(show=self.show, user=user, role=role)
            self.clients[role] = PageClient()
            self.clients[role].force_login(user, "django.contrib.auth.backends.ModelBackend")
        self.clients["nobody"] = PageClient()

    def status(self, role, address, **form):
        one = self.clients[role]
        return (one.post(address, form) if form else one.get(address)).status_code

    def test_pages_pictures_renders_and_downloads(self):
        digest = self.state()["plate"]["digest"]
        with override_settings(LOCAL=True):
            render_now(Shot.objects.with_head().get(), Order(size="quarter", samples=1))
        render = self.shot.renders.first()
        page = self.clients["nobody"].get(self.url("plate"))
        self.assertRedirects(
            page,
            f"/sign-in?next={self.url('plate').replace('/', '%2F')}",
            fetch_redirect_response=False,
        )
        for address in (
            self.url("plate"),
            self.url("match/document.json"),
            self.url("hand-off"),
            f"/plates/{digest}/proxy.jpg",
            f"/plates/{digest}/tile/0/0.png",
            self.url(f"elements/{render.pk}/render.png"),
            self.url("jobs/render/progress"),
            f"/shows/{self.show.slug}/",
            f"/shows/{self.show.slug}/cut",
            f"/shows/{self.show.slug}/parcel.zip",
            f"/shows/{self.show.slug}/storyboard.pdf",
        ):
            with self.subTest(address=address):
                self.assertIn(self.status("nobody", address), (302, 401))
                self.assertEqual(self.status("stranger", address), 404)
                self.assertEqual(self.status("looks", address), 200)
        self.assertNotContains(self.clients["stranger"].get("/"), self.show.name)
        self.assertContains(self.clients["looks"].get("/"), self.show.name)
        edits = self.url("plate/facts"), {"facts-transfer": "linear"}
        for role, wanted in (("nobody", 302), ("stranger", 404), ("looks", 403), ("works", 302)):
            self.assertEqual(self.status(role, edits[0], **edits[1]), wanted, role)
        self.assertContains(self.clients["looks"].get(self.url("match")), "you look")
        people = f"/shows/{self.show.slug}/people"
        for role, wanted in (("stranger", 404), ("looks", 403), ("works", 403), ("leads", 200)):
            self.assertEqual(self.status(role, people), wanted, role)

    def test_who_did_it_is_kept(self):
        self.clients["works"].post(self.url("plate/facts"), {"facts-transfer": "linear"})
        newest = Revision.objects.order_by("-pk").first()
        self.assertEqual(newest.by.username, "works")
        self.clients["works"].post(self.url("elements/again"), {})
        self.assertEqual(Job.objects.first().by.username, "works")
        self.assertEqual(self.shot.renders.first().by.username, "works")
        self.assertTrue(self.shot.revisions.filter(by__username="artist").exists())
        made = self.clients["stranger"].post(
            "/", {"name": "Own", "up_axis": "Y", "length_unit": "m", "rate": "24"}
        )
        self.assertEqual(made.status_code, 302)
        own = Member.objects.get(show__name="Own")
        self.assertEqual((own.user.username, own.role), ("stranger", "leads"))
        # A shot goes only to shows in which one works.
        choices = (
            self.clients["works"]
            .get(self.url("settings"))
            .context["form"]
            .fields["show_slug"]
            .choices
        )
        self.assertEqual([slug for slug, _ in choices], [self.show.slug])

    def test_signing_in_and_out_and_too_many_attempts(self):
        one = PageClient()
        where = {"next": self.url("gate")}
        right = {"username": "looks", "password": PASSWORD, **where}
        self.assertContains(one.post("/sign-in", right | {"password": "wrong"}), "correct")
        self.assertRedirects(one.post("/sign-in", right), self.url("gate"))
        self.assertEqual(one.get("/account").status_code, 200)
        one.post("/sign-out")
        self.assertEqual(one.get(self.url("gate")).status_code, 302)
        elsewhere = one.post("/sign-in", right | {"next": "https://elsewhere.example/"})
        self.assertRedirects(elsewhere, "/", fetch_redirect_response=False)
        two = PageClient()
        for _ in range(5):
            two.post("/sign-in", right | {"password": "wrong"})
        self.assertContains(two.post("/sign-in", right), "too often", status_code=429)
        self.assertTrue(Event.objects.filter(kind="locked out").exists())
        User.objects.filter(username="looks").update(is_active=False)
        self.assertEqual(self.clients["looks"].get(self.url("gate")).status_code, 302)

    def test_invitations_make_accounts_once(self):
        page = self.clients["leads"].post(
            f"/shows/{self.show.slug}/people/invite", {"role": "works"}
        )
        address = page.context["given"].removeprefix("http://testserver")
        secret = address.rsplit("/", 1)[1]
        self.assertFalse(
            Invitation.objects.filter(digest=secret).exists()
        )  # only its digest is kept
        self.assertTrue(Invitation.objects.filter(digest=digest_of(secret)).exists())
        one = PageClient()
        for wrong, says in (
            ("short", "at least 12"),
            ("password1234", "common"),
            ("123456789012345", "numeric"),
        ):
            answer = one.post(address, {"username": "mate", "password1": wrong, "password2": wrong})
            self.assertContains(answer, says, status_code=422)
        taken = {"username": "Artist", "password1": PASSWORD, "password2": PASSWORD}
        self.assertContains(one.post(address, taken), "already exists", status_code=422)
        self.assertRedirects(
            one.post(address, taken | {"username": "mate"}), f"/shows/{self.show.slug}/"
        )
        self.assertEqual(Member.objects.get(user__username="mate").role, "works")
        self.assertEqual(PageClient().get(address).status_code, 422)  # used
        row, secret = invite(self.show, "looks")
        Invitation.objects.filter(pk=row.pk).update(ends=timezone.now() - timedelta(minutes=1))
        self.assertEqual(PageClient().get(f"/welcome/{secret}").status_code, 422)

    def test_a_viewer_s_link_shows_its_shot_until_it_is_taken_back(self):
        other = create_shot(self.show, "LT999")
        row, secret = give(self.show, self.shot, Link.SHOT, timezone.now() + timedelta(days=2))
        digest = self.state()["plate"]["digest"]
        one = PageClient()
        self.assertEqual(one.get(self.url("line-up")).status_code, 302)
        self.assertRedirects(one.get(f"/see/{secret}"), self.url("line-up"))
        for address, wanted in (
            (self.url("match"), 200),
            (f"/plates/{digest}/thumb.jpg", 200),
            (self.url("plate/media"), 404),
            (f"/shows/{self.show.slug}/", 404),
            (other.url("plate"), 404),
            (f"/shows/{self.show.slug}/people", 404),
        ):
            self.assertEqual(one.get(address).status_code, wanted, address)
        self.assertEqual(
            one.post(self.url("plate/facts"), {"facts-transfer": "linear"}).status_code, 404
        )
        taken = f"/shows/{self.show.slug}/people/link/{row.pk}/take-back"
        self.assertEqual(self.clients["works"].post(taken).status_code, 403)
        self.assertEqual(self.clients["leads"].post(taken).status_code, 302)
        self.assertEqual(one.get(self.url("match")).status_code, 302)
        _, sheet = give(self.show, None, Link.SHEET, timezone.now() + timedelta(days=2))
        one.get(f"/see/{sheet}")
        self.assertEqual(one.get(f"/shows/{self.show.slug}/storyboard.pdf").status_code, 200)
        self.assertEqual(one.get(self.url("match")).status_code, 404)
        past = {"kind": "shot", "shot": self.shot.code, "ends": "2020-01-01"}
        answer = self.clients["leads"].post(f"/shows/{self.show.slug}/people/link", past)
        self.assertContains(answer, "ends in the future", status_code=422)

    def test_somebody_leads_a_show_and_keeps_the_installation(self):
        put = f"/shows/{self.show.slug}/people/put"
        leads = self.clients["leads"]
        self.assertContains(
            leads.post(put, {"name": "leads", "role": ""}), "Somebody has to lead", status_code=422
        )
        self.assertContains(
            leads.post(put, {"name": "nobody-here", "role": "works"}),
            "no such account",
            status_code=422,
        )
        leads.post(put, {"name": "stranger", "role": "leads"})
        self.assertEqual(leads.post(put, {"name": "leads", "role": ""}).status_code, 302)
        self.assertEqual(leads.get(self.url("plate")).status_code, 404)
        keeper = User.objects.create_superuser("keeper", password=PASSWORD)
        one = PageClient()
        one.force_login(keeper, "django.contrib.auth.backends.ModelBackend")
        self.assertContains(one.get("/accounts"), "keeps the installation")
        self.assertEqual(one.post(f"/accounts/{keeper.pk}/close").status_code, 422)
        self.assertIn("/welcome/", one.post("/accounts", {}).context["given"])
        self.assertContains(one.get("/audit"), "stranger leads now")

    def test_only_the_machine_itself_is_local(self):
        with override_settings(LOCAL=True):
            self.assertEqual(self.local.get("/").status_code, 200)
            self.assertEqual(PageClient(REMOTE_ADDR="192.0.2.7").get("/").status_code, 302)
            self.assertEqual(
                PageClient(headers={"X-Forwarded-For": "192.0.2.7"}).get("/").status_code, 302
            )
