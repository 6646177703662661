"""Looks at an installed application and writes a first site file. A module for each place where something is found."""

from yellow_ladder.discovery.found import Discovery
from yellow_ladder.discovery.look import discover
from yellow_ladder.discovery.writing.site_file import site_file_text

__all__ = ["Discovery", "discover", "site_file_text"]
