"""Tests: promises first, on real files, real databases and a real server."""
