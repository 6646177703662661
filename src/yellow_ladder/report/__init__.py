"""Turns results into something to read; knows how things look, decides nothing. A module for each kind of result."""
