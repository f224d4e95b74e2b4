from django.db import migrations


class Migration(migrations.Migration):
    dependencies = [("board", "0001_the_board_is_kept")]

    operations = [migrations.RenameModel(old_name="KeptBoard", new_name="StoredBoard")]
