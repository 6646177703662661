"""Backups: made in one pass, read back, found again, restored."""
