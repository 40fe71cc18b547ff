"""Typed reversible steps, their checks and the one runner."""
