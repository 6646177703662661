"""Fills a Quaybook 2.4 database with bookings, the same for the same number, a million in some seconds."""

from __future__ import annotations

import hashlib
import hmac
import sqlite3
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import numpy as np

SCHEMA = """
CREATE TABLE meta (name TEXT PRIMARY KEY, value TEXT NOT NULL);
CREATE TABLE owners (id INTEGER PRIMARY KEY, name TEXT NOT NULL, email TEXT NOT NULL, phone TEXT,
  street TEXT, town TEXT, postcode TEXT, payment_token TEXT);
CREATE TABLE boats (id INTEGER PRIMARY KEY, name TEXT NOT NULL, registration TEXT NOT NULL UNIQUE,
  length_cm INTEGER NOT NULL, owner_id INTEGER NOT NULL REFERENCES owners (id));
CREATE TABLE berths (id INTEGER PRIMARY KEY, code TEXT NOT NULL UNIQUE, length_cm INTEGER NOT NULL, power_amps REAL);
CREATE TABLE bookings (id INTEGER PRIMARY KEY, boat_id INTEGER NOT NULL REFERENCES boats (id),
  berth_id INTEGER NOT NULL REFERENCES berths (id), arrive TEXT NOT NULL, depart TEXT NOT NULL,
  state TEXT NOT NULL, price_cents INTEGER NOT NULL, remark TEXT);
CREATE TABLE invoices (id INTEGER PRIMARY KEY, booking_id INTEGER NOT NULL REFERENCES bookings (id),
  issued TEXT NOT NULL, amount_cents INTEGER NOT NULL, paid_on TEXT);
CREATE TABLE notices (id INTEGER PRIMARY KEY, posted TEXT NOT NULL, title TEXT NOT NULL, body TEXT NOT NULL);
CREATE TABLE documents (id INTEGER PRIMARY KEY, boat_id INTEGER NOT NULL REFERENCES boats (id),
  kind TEXT NOT NULL, file TEXT NOT NULL, uploaded TEXT NOT NULL);
CREATE TABLE logins (id INTEGER PRIMARY KEY, owner_id INTEGER, seen TEXT);
CREATE INDEX bookings_by_arrival ON bookings (arrive);
CREATE VIEW unpaid AS SELECT id, booking_id, amount_cents FROM invoices WHERE paid_on IS NULL;
CREATE TRIGGER no_backward_stay BEFORE INSERT ON bookings WHEN new.depart < new.arrive
  BEGIN SELECT raise(ABORT, 'a stay cannot end before it begins'); END;
INSERT INTO meta VALUES ('schema', '24'), ('founded', '1911');
"""

_FIRST = (
    "Ada",
    "Bo",
    "Carla",
    "Dov",
    "Elin",
    "Finn",
    "Greta",
    "Hamo",
    "Ida",
    "Jens",
    "Käthe",
    "Lou",
    "Mira",
    "Nils",
)
_LAST = (
    "Ankerlund",
    "Brisling",
    "Dünung",
    "Fairlead",
    "Garbord",
    "Halyard",
    "Kielholm",
    "Lanyard",
    "Mizzen",
    "Øre",
)
_TOWNS = ("Sandhavn", "Little Quay", "Nordmole", "Port Anvil", "Brimstrand", "Öland Reach")
_STREETS = ("Rope Walk", "Slipway Lane", "Chandler's Row", "Harbour Street", "Lamp Alley")
_BOATS = (
    "Kittiwake",
    "Mermaid's Purse",
    "Second Wind",
    "Sea Thrift",
    "Old Salt",
    "Zephyr",
    "Lille Bjørn",
    "Pelican",
)
_STATES = ("asked", "booked", "arrived", "left", "cancelled")
_REMARKS = (None, None, None, "needs shore power", "late arrival ⚓", "two dogs", "pays in cash", "")
BERTHS = 120


def fill_database(path: Path, bookings: int, key: bytes, documents: list[str]) -> None:
    """Make a database of so many bookings; owners, boats and invoices follow in proportion."""
    random = np.random.default_rng(1911)
    boats = max(20, bookings // 20)
    owners = max(12, boats * 2 // 3)
    connection = sqlite3.connect(path, isolation_level=None)
    try:
        connection.execute("PRAGMA synchronous = OFF")
        connection.executescript(SCHEMA)
        connection.execute("BEGIN")
        tables = {
            "owners": (8, _owners(owners, key)),
            "boats": (5, _boats(random, boats, owners)),
            "berths": (4, _berths()),
            "bookings": (8, _bookings(random, bookings, boats)),
            "invoices": (5, _invoices(random, bookings)),
            "notices": (4, _notices()),
            "documents": (5, _documents(documents, boats)),
            "logins": (3, ((number, number, None) for number in range(1, 6))),
        }
        for name, (width, rows) in tables.items():
            marks = ", ".join("?" * width)
            connection.executemany(f"INSERT INTO {name} VALUES ({marks})", rows)  # noqa: S608  names from above
        connection.execute("COMMIT")
    finally:
        connection.close()


def _owners(count: int, key: bytes) -> Iterator[tuple[Any, ...]]:
    for n in range(1, count + 1):
        name = f"{_FIRST[n % len(_FIRST)]} {_LAST[n // 3 % len(_LAST)]}"
        street = None if n % 17 == 0 else f"{_STREETS[n % len(_STREETS)]} {n % 90 + 1}"
        token = seal(f"pay-{n:08d}", n.to_bytes(8, "big"), key) if n % 3 else None
        phone = f"+00 {n % 900 + 100} {n % 7919:04d}" if n % 4 else None
        yield (
            n,
            name,
            f"owner{n}@quaybook.example",
            phone,
            street,
            _TOWNS[n % len(_TOWNS)],
            f"{n % 9000 + 1000}",
            token,
        )


def _boats(random: np.random.Generator, count: int, owners: int) -> Iterator[tuple[Any, ...]]:
    lengths = random.integers(480, 1900, count).tolist()
    belongs = random.integers(1, owners + 1, count).tolist()
    for n, length, owner in zip(range(1, count + 1), lengths, belongs, strict=True):
        yield n, f"{_BOATS[n % len(_BOATS)]} {n // len(_BOATS) + 1}", f"QB-{n:07d}", length, owner


def _berths() -> Iterator[tuple[Any, ...]]:
    for n in range(1, BERTHS + 1):
        yield n, f"{'ABCDEF'[n % 6]}{n:03d}", 600 + n % 14 * 100, 16.0 if n % 3 else None


def _bookings(random: np.random.Generator, count: int, boats: int) -> Iterator[tuple[Any, ...]]:
    days = np.datetime64("2019-01-01") + random.integers(0, 2600, count)
    stays = random.integers(1, 15, count)
    arrive, depart = days.astype(str).tolist(), (days + stays).astype(str).tolist()
    boat, berth = random.integers(1, boats + 1, count).tolist(), random.integers(1, BERTHS + 1, count).tolist()
    state, price = (
        random.integers(0, len(_STATES), count).tolist(),
        (stays * random.integers(1800, 5200, count)).tolist(),
    )
    for n in range(count):
        remark = _REMARKS[n % len(_REMARKS)]
        yield n + 1, boat[n], berth[n], arrive[n], depart[n], _STATES[state[n]], price[n], remark


def _invoices(random: np.random.Generator, bookings: int) -> Iterator[tuple[Any, ...]]:
    paid = random.integers(0, 5, bookings).tolist()
    amounts = random.integers(1800, 60_000, bookings).tolist()
    for n in range(0, bookings, 2):
        paid_on = None if paid[n] == 0 else f"2025-{n % 12 + 1:02d}-{n % 28 + 1:02d}"
        yield n // 2 + 1, n + 1, f"2025-{n % 12 + 1:02d}-01", amounts[n], paid_on


def _notices() -> Iterator[tuple[Any, ...]]:
    titles = ("Dredging at the north mole", "Shore power renewed", "Regatta weekend", "Harbour office hours")
    for n in range(1, 41):
        body = f"Notice {n}: please mind the lines and keep the fairway free."
        yield n, f"2025-{n % 12 + 1:02d}-{n % 28 + 1:02d}", titles[n % len(titles)], body


def _documents(files: list[str], boats: int) -> Iterator[tuple[Any, ...]]:
    for n, file in enumerate(files, start=1):
        yield (
            n,
            n % boats + 1,
            "insurance" if file.endswith(".txt") else "photo",
            file,
            f"2024-{n % 12 + 1:02d}-11",
        )


def seal(secret: str, nonce: bytes, key: bytes) -> str:
    """A secret as Quaybook's vault seals it."""
    raw = secret.encode()
    stream = hmac.digest(key, nonce + b"\0", "sha256")
    packed = bytes(a ^ b for a, b in zip(raw, stream, strict=False))
    mark = hmac.new(key, b"seal" + nonce + packed, hashlib.sha256).digest()[:8]
    return (nonce + mark + packed).hex()
