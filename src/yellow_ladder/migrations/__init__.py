"""Schema migrations: read from a release, applied once each, written into a ledger inside the database."""
