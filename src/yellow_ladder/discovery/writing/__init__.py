"""Writes a first site file of what was found."""
