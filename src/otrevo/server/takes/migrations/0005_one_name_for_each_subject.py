from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("takes", "0004_say_whom_they_are_about")]

    operations = [
        migrations.RemoveField(model_name="take", name="calibration"),
        migrations.AddConstraint(
            model_name="stream",
            constraint=models.UniqueConstraint(
                condition=models.Q(("run", None), ("take__isnull", False)), fields=("take", "performer", "prop", "name"),
                name="one_recorded_stream_of_a_subject", nulls_distinct=False,
            ),
        ),
        migrations.AddConstraint(
            model_name="stream",
            constraint=models.UniqueConstraint(
                condition=models.Q(("run__isnull", False)), fields=("run", "performer", "prop", "name"),
                name="one_track_of_a_subject_in_a_run", nulls_distinct=False,
            ),
        ),
    ]  # fmt: skip
