"""What every job uses: the context, names typed by people, fields, edits, names that are taken."""
