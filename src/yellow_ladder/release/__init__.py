"""Releases: their versions, their sheets, where they come from, how they are packed."""
