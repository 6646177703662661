"""Quaybook's own housekeeping: manage.py migrate, manage.py index, manage.py version."""

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


def main():
    what = sys.argv[1] if len(sys.argv) > 1 else ""
    if what == "migrate":
        migrate(ask=True)
    elif what == "index":
        index()
    elif what == "version":
        print(f"quaybook {(HERE / 'VERSION').read_text().strip()}")
    else:
        sys.exit(__doc__)


if __name__ == "__main__":
    main()
