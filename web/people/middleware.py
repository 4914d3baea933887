"""Who asks, and whether they may: looked at before any view is called, by the name of the
address."""

from urllib.parse import urlencode

from django.conf import settings
from django.db import DatabaseError
from django.http import Http404, HttpResponse, JsonResponse
from django.shortcuts import redirect, render
from django.urls import reverse
from django.utils.functional import SimpleLazyObject

from web.people import access, uploads
from web.people.models import LEADS, LOOKS
from web.shows.models import Show
from web.shows.reading import wants_json
from web.ui import away, who

SESSION_COOKIE = settings.SESSION_COOKIE_NAME
SIGN_IN = "Sign in first: nobody is signed in here any more."
NOT_YOURS = {
    "works": (
        "You look at this show: what is here can be seen, and not changed. Who leads it can let you"
        " work."
    ),
    "leads": "Only those who lead this show can do that.",
    "admin": "Only those who keep this installation can do that.",
}


class Access:
    """Sets `request.user`, `request.role` and who is at work; answers where somebody may not.

    The people's middleware of Django comes before it, and gives the account of the session.
    """

    def __init__(self, get_response):
        self.get_response = get_response

    def __call__(self, request):
        """Whoever it is, all that is kept while they are answered is theirs."""
        request.local, request.role = access.is_local(request), None
        try:
            self._know(request)
        except DatabaseError as error:
            return away.answer(request, away.sentence_of(error) or away.DATABASE)
        with who.acting(lambda: request.user.pk, request.keeps):
            return self.get_response(request)

    @staticmethod
    def _know(request) -> None:
        """Whose request it is, and whether they keep the installation."""
        alone = request.local and SESSION_COOKIE not in request.COOKIES
        if request.local and (alone or not request.user.is_authenticated):
            alone, request.user = True, SimpleLazyObject(access.local_artist)
        # The local artist is asked for only where something is kept, or their name is shown.
        request.keeps = alone or access.is_admin(request.user)
        request.who = access.LOCAL_ARTIST if alone else request.user.get_username()  # for the log

    def process_view(self, request, view, args, kwargs):
        """None where the view may answer."""
        name = request.resolver_match.url_name or ""
        if name in access.OPEN:
            return None
        if too_much := uploads.count(request):
            return refused(request, too_much)
        if request.keeps:
            request.role = LEADS if "show" in kwargs else None
            return None
        links = access.links_of(request)
        if not request.user.is_authenticated and not links:
            return _sign_in(request)
        if name in access.PICTURES:
            if access.sees_picture(request.user, links, kwargs["digest"]):
                return None
            raise Http404
        if "show" in kwargs:
            return self._of_show(request, name, kwargs, links)
        if not request.user.is_authenticated:
            raise Http404
        if name in access.SIGNED_IN:
            return None
        if name in access.SHARED:
            changes = request.method not in access.SAFE
            if changes and not access.works_somewhere(request.user):
                return refused(request, NOT_YOURS["works"])
            return None
        return refused(request, NOT_YOURS["admin"])

    @staticmethod
    def _of_show(request, name, kwargs, links):
        show = Show.objects.filter(slug=kwargs["show"]).first()
        role = access.role_in(request.user, show) if show else None
        if role is None:  # a stranger doesn't learn that there is such a show
            if access.link_opens(
                links, name, request.method, kwargs["show"], kwargs.get("shot", "")
            ):
                request.role = LOOKS
                return None
            raise Http404
        request.role = role
        wanted = access.wanted_role(name, request.method, kwargs.get("verb", ""))
        return None if access.enough(role, wanted) else refused(request, NOT_YOURS[wanted])


def _sign_in(request):
    """A page: the way to the form; a script or a picture: that it is needed."""
    if wants_json(request) or request.htmx:
        answer = JsonResponse({"problem": SIGN_IN, "place": ""}, status=401)
        if request.htmx:
            answer["HX-Redirect"] = reverse("sign-in")
        return answer
    if request.method not in access.SAFE:
        return redirect("sign-in")
    if request.headers.get("Sec-Fetch-Dest", "document") not in ("document", "empty", ""):
        return HttpResponse(status=401)
    return redirect(reverse("sign-in") + "?" + urlencode({"next": request.get_full_path()}))


def refused(request, sentence: str):
    """403, with the sentence."""
    if wants_json(request) or request.htmx:
        return JsonResponse({"problem": sentence, "place": ""}, status=403)
    context = {"sentence": sentence, "back": request.headers.get("Referer", "/")}
    return render(request, "ui/problem.html", context, status=403)
