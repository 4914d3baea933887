"""Renders were kept by the Line-up step; their table stays, and says more."""

import django.db.models.deletion
from django.db import migrations, models


class Migration(migrations.Migration):

    dependencies = [("lineup", "0001_initial"), ("shows", "0001_initial")]
    operations = [
        migrations.SeparateDatabaseAndState(state_operations=[migrations.CreateModel(
            name="Render",
            fields=[
                ("id", models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name="ID")),
                ("digest", models.CharField(max_length=64)),
                ("revision", models.PositiveIntegerField()),
                ("width", models.PositiveIntegerField()),
                ("height", models.PositiveIntegerField()),
                ("seconds", models.FloatField()),
                ("created", models.DateTimeField(auto_now_add=True)),
                ("shot", models.ForeignKey(on_delete=django.db.models.deletion.CASCADE, related_name="renders", to="shows.shot")),
            ],
            options={"ordering": ["-id"], "db_table": "lineup_render"})]),
        migrations.AddField("Render", "wanted", models.JSONField(default=dict)),
        migrations.AddField("Render", "looks", models.JSONField(default=list)),
    ]
