"""What may come in about people."""

from datetime import datetime, time

from django import forms
from django.contrib.auth.forms import UserCreationForm
from django.contrib.auth.models import User
from django.utils import timezone

from web.people.access import LOCAL_ARTIST
from web.people.models import ROLES, Link


class WelcomeForm(UserCreationForm):
    """A new account: its name and its password, by Django's validators."""

    class Meta:
        model = User
        fields = ["username"]

    def clean_username(self):
        """The name of the local artist is never anybody's."""
        name = super().clean_username()
        if name and name.lower() == LOCAL_ARTIST:
            raise forms.ValidationError("This name is taken.")
        return name


class MemberForm(forms.Form):
    """Somebody's role in a show; none takes them out."""

    name = forms.CharField(label="Account", max_length=150)
    role = forms.ChoiceField(
        choices=[*ROLES.items(), ("", "no member")], required=False, initial="works"
    )

    def clean_name(self):
        """The account. The same sentence for every name that can't be used, so that no names are
        told."""
        user = User.objects.filter(username=self.cleaned_data["name"], is_active=True).first()
        if user is None:
            raise forms.ValidationError("There is no such account: invite them instead.")
        return user


class InviteForm(forms.Form):
    """A role to invite somebody to."""

    role = forms.ChoiceField(label="To a role", choices=list(ROLES.items()), initial="works")


class LinkForm(forms.Form):
    """A link for a viewer."""

    kind = forms.ChoiceField(
        label="Shows", choices=[(Link.SHOT, "the shot"), (Link.SHEET, "the sheet")]
    )
    shot = forms.ModelChoiceField(
        queryset=None, required=False, to_field_name="code", empty_label="all shots"
    )
    ends = forms.DateField(label="Until", widget=forms.DateInput(attrs={"type": "date"}))

    def __init__(self, *args, show, **kwargs):
        super().__init__(*args, **kwargs)
        self.fields["shot"].queryset = show.shots.filter(deleted__isnull=True)

    def clean_ends(self):
        """The end of that day."""
        return timezone.make_aware(datetime.combine(self.cleaned_data["ends"], time.max))
