"""Quaybook's own code."""
