"""The charter: an organization's house rules."""
