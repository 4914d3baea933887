"""What may come in about shows and shots."""

from django import forms
from django.utils.text import slugify

from aperture.errors import Problem
from aperture.units import parse_rate
from web.shows.models import Shot, Show


class ShowForm(forms.ModelForm):
    """A new show."""

    rate = forms.CharField(label="Frame rate", initial="24", max_length=30)

    class Meta:
        model = Show
        fields = ["name", "up_axis", "length_unit"]
        labels = {"up_axis": "Up axis shown", "length_unit": "Length unit"}
        error_messages = {"name": {"required": "Give the show a name, for example The Lantern Tide."}}

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
        base = slugify(show.name)[:50] or "show"
        taken = set(Show.objects.filter(slug__startswith=base).values_list("slug", flat=True))
        show.slug = next(slug for slug in (base, *(f"{base}-{n}" for n in range(2, 10000))) if slug not in taken and slug != "new")
        if commit:
            show.save()
        return show


class ShotForm(forms.Form):
    """A new shot of one show."""

    code = forms.CharField(label="Code", max_length=40, error_messages={"required": "Give the shot a code, for example LT030."})
    description = forms.CharField(label="Description", max_length=200, required=False)

    def __init__(self, *args, show: Show, **kwargs):
        super().__init__(*args, **kwargs)
        self.show = show

    def clean_code(self):
        """A code that can stand in an address and isn't taken."""
        code = self.cleaned_data["code"].strip()
        if not code or slugify(code).lower() != code.lower().replace("_", "_") or not code.isascii():
            raise forms.ValidationError("A code has letters, digits, hyphens and underscores only, for example LT030.")
        if Shot.objects.filter(show=self.show, code__iexact=code).exists():
            raise forms.ValidationError(f"There is a shot {code} in this show already.")
        return code
