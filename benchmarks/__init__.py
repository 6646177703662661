"""Measurements against references in one run; run on demand, never as timed tests."""
