"""The table of renders is now the Elements step's; nothing is removed from the database."""

from django.db import migrations


class Migration(migrations.Migration):

    dependencies = [("lineup", "0001_initial"), ("elements", "0001_initial")]
    operations = [migrations.SeparateDatabaseAndState(state_operations=[migrations.DeleteModel("Render")])]
