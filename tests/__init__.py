"""Tests: promises first, on real files, real databases and a real server. Many files: each is about one promise."""
