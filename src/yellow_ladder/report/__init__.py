"""Turns results into something to read: words, tables, JSON. Knows how things look, decides nothing."""
