from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("work", "0003_steps_and_packages"), ("takes", "0004_say_whom_they_are_about")]

    operations = [
        migrations.AddConstraint(
            model_name="run",
            constraint=models.CheckConstraint(
                condition=models.Q(
                    models.Q(("package", None), ("room", None), ("take__isnull", False)),
                    models.Q(("package", None), ("room__isnull", False), ("take", None)),
                    models.Q(("package__isnull", False), ("room", None), ("take", None)),
                    _connector="OR",
                ),
                name="run_is_about_one_thing",
            ),
        )
    ]
