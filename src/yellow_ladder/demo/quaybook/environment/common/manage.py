"""Quaybook's own housekeeping: manage.py migrate, manage.py index, manage.py version, and for the log of the lamps
manage.py lamps count FOLDER, manage.py lamps export FOLDER EXPORTED, manage.py lamps import EXPORTED FOLDER.
"""

import json
import os
import sqlite3
import sys
from pathlib import Path

HERE = Path(__file__).resolve().parent
HOME = Path(os.environ.get("QUAYBOOK_HOME", HERE))


def connect():
    return sqlite3.connect(f"file:{HOME / 'data' / 'quaybook.sqlite'}?mode=rw", uri=True, timeout=10)


def schema():
    connection = connect()
    try:
        return connection.execute("SELECT value FROM meta WHERE name = 'schema'").fetchone()[0]
    finally:
        connection.close()


def wanted():
    return (HERE / "VERSION").read_text().strip().replace(".", "")


def migrate(ask):
    """Bring the schema to this release's; asks at the terminal first, as it would ask somebody who sits there."""
    if schema() == wanted():
        print(f"nothing to do: the schema is at {wanted()}", flush=True)
        return
    if ask:
        with open("/dev/tty", "r+b", buffering=0) as terminal:
            terminal.write(f"This changes the schema from {schema()} to {wanted()}. Go on? [yes/no] ".encode())
            if terminal.readline().strip() != b"yes":
                print("ERROR: not agreed to", flush=True)
                return
    connection = connect()
    try:
        for file in sorted((HERE / "migrations").glob("*.sql")):
            print(f"applying {file.name}", flush=True)
            connection.executescript(f"BEGIN; {file.read_text()} COMMIT;")
    finally:
        connection.close()
    print(f"migrated to {wanted()}", flush=True)


def index():
    """Write the names of all boats for the search."""
    connection = connect()
    try:
        names = [name for (name,) in connection.execute("SELECT name FROM boats ORDER BY name, id")]
    finally:
        connection.close()
    (HOME / "index").mkdir(exist_ok=True)
    (HOME / "index" / "boats.txt").write_text("\n".join(names) + "\n")
    print(f"indexed {len(names)} boats", flush=True)


def lamps(what, source, target=""):
    """The log of the lamps: a text for each month until 2.6, one file of JSON Lines from 3.0 on."""
    source, target = Path(source), Path(target)
    if what == "count":
        files = [*source.glob("*.txt"), *source.glob("lamps.jsonl")]
        print(f"{sum(len(one.read_text().splitlines()) for one in files)} entries")
    elif what == "export":
        entries = [line for one in sorted(source.glob("*.txt")) for line in one.read_text().splitlines()]
        (target / "entries.txt").write_text("\n".join(entries) + "\n")
        print(f"exported {len(entries)} entries", flush=True)
    elif what == "import":
        entries = [line.split(" ", 2) for line in (source / "entries.txt").read_text().splitlines()]
        written = [json.dumps({"day": day, "lamp": lamp, "says": says}) for day, lamp, says in entries]
        (target / "lamps.jsonl").write_text("\n".join(written) + "\n")
        print(f"imported {len(entries)} entries", flush=True)
    else:
        sys.exit(__doc__)


def main():
    what = sys.argv[1] if len(sys.argv) > 1 else ""
    if what == "migrate":
        migrate(ask=True)
    elif what == "index":
        index()
    elif what == "lamps" and len(sys.argv) > 3:
        lamps(*sys.argv[2:5])
    elif what == "version":
        print(f"quaybook {(HERE / 'VERSION').read_text().strip()}")
    else:
        sys.exit(__doc__)


if __name__ == "__main__":
    main()
