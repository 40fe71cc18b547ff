"""What several jobs use: proposals and reports, names typed by people, field values, edits, names that are taken."""
