"""What may come in about shows and shots."""

from contextlib import contextmanager

from django import forms
from django.utils.text import slugify

from aperture.errors import Problem
from aperture.units import parse_rate
from web.shows.models import Shot, Show
from web.shows.organise import free_slug
from web.shows.reading import require_base
from web.shows.refusals import Refused


class BaseField(forms.IntegerField):
    """The revision that the page shows, hidden in each of its forms. One that doesn't say it is
    refused."""

    def __init__(self):
        super().__init__(widget=forms.HiddenInput)

    def clean(self, value):
        """Its number."""
        return require_base(value)


@contextmanager
def on_form(form: forms.Form, field: str | None = None):
    """Put what the core can't use beside the field it is about, or beside `field`.

    What is refused as the shot stands (stale, locked) isn't the form's matter: it goes on to the
    middleware.
    """
    try:
        yield
    except Refused:
        raise
    except Problem as problem:
        place = field or (problem.place if problem.place in form.fields else None)
        form.add_error(place, problem.sentence)


class ShowForm(forms.ModelForm):
    """A new show."""

    rate = forms.CharField(label="Frame rate", initial="24", max_length=30)

    class Meta:
        model = Show
        fields = ["name", "up_axis", "length_unit"]
        labels = {"up_axis": "Up axis shown", "length_unit": "Length unit"}
        error_messages = {
            "name": {"required": "Give the show a name, for example The Lantern Tide."}
        }

    def clean_rate(self):
        """The exact rate. A sentence where it can't be read."""
        try:
            return parse_rate(self.cleaned_data["rate"])
        except Problem as problem:
            raise forms.ValidationError(problem.sentence) from None

    def save(self, commit=True):
        """The show, with a slug of its own."""
        show = super().save(commit=False)
        show.rate_numerator, show.rate_denominator = self.cleaned_data["rate"].as_integer_ratio()
        show.slug = free_slug(show.name)
        if commit:
            show.save()
        return show


class ShowSettingsForm(ShowForm):
    """A show's name, unit, axis and rate, changed later; its address stays."""

    thin_days = forms.IntegerField(
        label="Thin revisions older than (days)",
        min_value=1,
        max_value=10_000,
        required=False,
        widget=forms.NumberInput(attrs={"placeholder": "every revision is kept"}),
        error_messages={
            "invalid": "Type a whole number of days, or nothing.",
            "min_value": "At least one day, or nothing.",
        },
    )

    class Meta(ShowForm.Meta):
        fields = [*ShowForm.Meta.fields, "thin_days"]

    def __init__(self, *args, instance: Show, **kwargs):
        super().__init__(*args, instance=instance, **kwargs)
        self.fields["rate"].initial = self.initial["rate"] = instance.rate_text

    def save(self, commit=True):
        """The show as it is now."""
        show = forms.ModelForm.save(self, commit=False)
        show.rate_numerator, show.rate_denominator = self.cleaned_data["rate"].as_integer_ratio()
        if commit:
            show.save()
        return show


class ShotForm(forms.Form):
    """A new shot of one show."""

    code = forms.CharField(
        label="Code",
        max_length=40,
        error_messages={"required": "Give the shot a code, for example LT030."},
    )
    description = forms.CharField(label="Description", max_length=200, required=False)

    def __init__(self, *args, show: Show, shot: Shot | None = None, **kwargs):
        super().__init__(*args, **kwargs)
        self.show, self.shot = show, shot

    def clean_code(self):
        """A code that can stand in an address and isn't taken."""
        code = self.cleaned_data["code"].strip()
        if (
            not code
            or slugify(code).lower() != code.lower().replace("_", "_")
            or not code.isascii()
        ):
            raise forms.ValidationError(
                "A code has letters, digits, hyphens and underscores only, for example LT030."
            )
        taken = Shot.objects.filter(show=self.show, code__iexact=code)
        if self.shot is not None and self.shot.show_id == self.show.pk:
            taken = taken.exclude(pk=self.shot.pk)
        other = taken.first()
        if other is not None:
            where = (
                "among the deleted ones: bring it back, or give this one another code"
                if other.deleted
                else "in this show already"
            )
            raise forms.ValidationError(f"There is a shot {code} {where}.")
        return code


class ShotSettingsForm(ShotForm):
    """A shot's code, description and show, changed later."""

    show_slug = forms.ChoiceField(label="Show")
    scene = forms.CharField(max_length=40, required=False)
    slate = forms.CharField(max_length=40, required=False)
    take = forms.CharField(max_length=40, required=False)
    notes = forms.CharField(
        max_length=5000, required=False, widget=forms.Textarea(attrs={"rows": 5})
    )

    def __init__(self, *args, shot: Shot, **kwargs):
        super().__init__(*args, show=shot.show, shot=shot, **kwargs)
        shows = Show.objects.visible("works", "leads").kept()
        self.fields["show_slug"].choices = [(show.slug, show.name) for show in shows]
        self.order_fields(["show_slug", "code", "description"])
        self.initial = {
            **self.initial,
            "show_slug": shot.show.slug,
            "code": shot.code,
            **shot.written,
        }

    def clean_show_slug(self):
        """The show that the shot goes to; the code must be free there."""
        self.show = (
            Show.objects.visible("works", "leads").kept().get(slug=self.cleaned_data["show_slug"])
        )
        return self.show.slug
