"""Recipes: the conventions of those who get a show's files; and what was handed off."""

from django.db import models

from aperture.formats.recipe import Recipe as Conventions
from web.ui.who import Signed


class Recipe(Signed):
    """A receiver's conventions under a name. `settings`: as
    `aperture.formats.recipe.Recipe.to_json` has them."""

    show = models.ForeignKey("shows.Show", models.CASCADE, related_name="recipes")
    name = models.CharField(max_length=80)
    settings = models.JSONField(default=dict)

    class Meta:
        ordering = ["name"]
        constraints = [models.UniqueConstraint(fields=["show", "name"], name="one_recipe_a_name")]

    @property
    def conventions(self) -> Conventions:
        """What it says. Raises Problem."""
        return Conventions.from_json(self.settings)


class HandedOff(Signed):
    """Files that were written: what, from which revision, with which recipe."""

    shot = models.ForeignKey("shows.Shot", models.CASCADE, related_name="handed_off")
    revision = models.PositiveIntegerField()
    what = models.CharField(max_length=40)
    recipe = models.CharField(max_length=80, blank=True)
    created = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["-id"]
