from django.db import migrations


class Migration(migrations.Migration):
    dependencies = [("stage", "0001_initial"), ("work", "0003_steps_and_packages")]

    operations = [migrations.DeleteModel(name="StageRun")]
