"""Fills a Quaybook 2.4 database with bookings, the same for the same number, a million in some seconds."""

from __future__ import annotations

import hashlib
import hmac
import sqlite3
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import numpy as np

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


Rows = Iterator[tuple[Any, ...]]


def fill_database(path: Path, bookings: int, key: bytes, documents: list[str]) -> None:
    """Make a SQLite database with this number of bookings; owners, boats and invoices follow in proportion."""
    connection = sqlite3.connect(path, isolation_level=None)
    try:
        connection.execute("PRAGMA synchronous = OFF")
        connection.executescript(schema_of("sqlite"))
        connection.execute("BEGIN")
        for name, width, rows in demo_rows(bookings, key, documents):
            marks = ", ".join("?" * width)
            connection.executemany(f"INSERT INTO {name} VALUES ({marks})", rows)  # noqa: S608  names from above
        connection.execute("COMMIT")
    finally:
        connection.close()


def schema_of(engine: str) -> str:
    """Quaybook 2.4's schema for an engine."""
    return (Path(__file__).parent / "schemas" / f"{engine}.sql").read_text()


def demo_rows(bookings: int, key: bytes, documents: list[str]) -> Iterator[tuple[str, int, Rows]]:
    """(table, columns, rows) of every table, in an order in which references lead somewhere."""
    random = np.random.default_rng(1911)
    boats = max(20, bookings // 20)
    owners = max(12, boats * 2 // 3)
    yield "owners", 8, _owners(owners, key)
    yield "boats", 5, _boats(random, boats, owners)
    yield "berths", 4, _berths()
    yield "bookings", 8, _bookings(random, bookings, boats)
    yield "invoices", 5, _invoices(random, bookings)
    yield "notices", 4, _notices()
    yield "documents", 5, _documents(documents, boats)
    yield "logins", 3, ((number, number, None) for number in range(1, 6))


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
