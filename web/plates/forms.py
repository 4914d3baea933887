"""What may come in as a plate."""

from django import forms


class PlateForm(forms.Form):
    """One picture file."""

    picture = forms.FileField(allow_empty_file=True, max_length=1000, error_messages={
        "required": "Choose a picture: JPEG, PNG, TIFF or OpenEXR."})
    base = forms.IntegerField(required=False, widget=forms.HiddenInput)
