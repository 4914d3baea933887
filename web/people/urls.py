from django.urls import path

from web.people import live, member_views, views

urlpatterns = [
    path("sign-in", views.SignIn.as_view(), name="sign-in"),
    path("sign-out", views.SignOut.as_view(), name="sign-out"),
    path("account", views.account, name="account"),
    path("welcome/<str:secret>", views.welcome, name="welcome"),
    path("see/<str:secret>", views.see, name="see"),
    path("accounts", member_views.accounts, name="accounts"),
    path("accounts/<int:pk>/<slug:verb>", member_views.account_verb, name="account-verb"),
    path("audit", member_views.audit, name="audit"),
    path("shows/<slug:show>/<slug:shot>/events", live.events, name="events"),
    path("shows/<slug:show>/people", member_views.people, name="people-of-show"),
    path("shows/<slug:show>/people/put", member_views.put, name="member-put"),
    path("shows/<slug:show>/people/invite", member_views.invitation, name="member-invite"),
    path("shows/<slug:show>/people/link", member_views.link, name="link-give"),
    path(
        "shows/<slug:show>/people/<slug:kind>/<int:pk>/take-back",
        member_views.ticket,
        name="ticket-take-back",
    ),
]
