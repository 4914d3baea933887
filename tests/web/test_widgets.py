"""The plain fields are written without templates: as Django's own templates write them."""

from django import forms
from django.forms.renderers import DjangoTemplates
from django.test import SimpleTestCase

from web.ui.widgets import Renderer

GROUPED = [("", "none"), ("Film", [("35", "35 <mm>"), (65, "65 mm")]), ("digital", "Digital")]


class Odd(forms.Form):
    name = forms.CharField(max_length=9, widget=forms.TextInput(attrs={"placeholder": '"<&>'}))
    number = forms.FloatField(required=False, min_value=0.5)
    hidden = forms.IntegerField(widget=forms.HiddenInput)
    ticked = forms.BooleanField(required=False)
    kind = forms.ChoiceField(choices=GROUPED, disabled=True)
    several = forms.MultipleChoiceField(choices=GROUPED)
    notes = forms.CharField(widget=forms.Textarea)


class Widgets(SimpleTestCase):
    def test_as_django_writes_them(self):
        for data in (
            None,
            {"name": "<b>\"'&", "number": "x", "hidden": "3", "ticked": "on", "several": ["35"]},
            {"name": "é", "kind": "65", "several": ["35", "65"], "notes": "</textarea>"},
        ):
            plain, theirs = Odd(data, renderer=Renderer()), Odd(data, renderer=DjangoTemplates())
            for field in Odd.base_fields:
                self.assertHTMLEqual(str(plain[field]), str(theirs[field]), field)
