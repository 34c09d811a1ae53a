from django.db import migrations


class Migration(migrations.Migration):
    dependencies = [("floor", "0003_rolling_circled_rolling_note")]

    operations = [migrations.RemoveField("rolling", "parameters"), migrations.RemoveField("rolling", "live")]
