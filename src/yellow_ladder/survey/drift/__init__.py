"""Drift: how files differ from the release that they came from."""
