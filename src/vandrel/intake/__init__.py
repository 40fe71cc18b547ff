"""Intake: tabular files, the small files that say what their columns mean, and hand-outs."""
