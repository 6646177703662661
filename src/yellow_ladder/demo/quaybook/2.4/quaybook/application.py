"""The WSGI application: a few pages, an about page for machines, a page for while it is closed."""

import html
import json
import os
import time
from pathlib import Path
from urllib.parse import parse_qs

from quaybook import queries
from quaybook.settings import Settings
from quaybook.store import Store
from quaybook.vault import Vault

PAGE = """<!doctype html><html lang="en"><meta charset="utf-8"><title>{title}</title>
<link rel="stylesheet" href="/style.css"><body><header><h1>{harbour}</h1>
<nav><a href="/">Notices</a> <a href="/bookings">Bookings</a> <a href="/boats">Boats</a>
<a href="/documents">Documents</a></nav></header><main><h2>{title}</h2>{body}</main>
<footer>Quaybook {version}</footer></body></html>"""


class Application:
    """One harbour."""

    def __init__(self, root):
        self.root = root
        self.home = Path(os.environ.get("QUAYBOOK_HOME", root))  # where what is the harbour's own lies
        self.version = (root / "VERSION").read_text().strip()
        self.settings = Settings(self.home / os.environ.get("QUAYBOOK_SETTINGS", queries.SETTINGS_FILE))
        self.store = Store(self.settings.database_url(self.home))
        self.vault = Vault(self.home / os.environ.get("QUAYBOOK_KEY", queries.KEY_FILE))
        now = time.strftime("%Y-%m-%d %H:%M:%S", time.gmtime())
        self.store.run("UPDATE logins SET seen = :now WHERE id = 1", {"now": now})

    def __call__(self, environ, start_response):
        path, method = environ["PATH_INFO"], environ["REQUEST_METHOD"]
        if path == "/about.json":
            return self.answer(start_response, "200 OK", json.dumps(self.about()), "application/json")
        closed = self.home / "data" / "closed"
        if closed.exists():
            body = f"<p>{html.escape(closed.read_text())}</p>"
            return self.answer(start_response, "503 Service Unavailable", self.page("Closed for now", body))
        if path == "/style.css":
            return self.answer(start_response, "200 OK", (self.root / queries.STYLE_FILE).read_text(), "text/css")
        if method == "POST" and path == "/bookings":
            length = int(environ.get("CONTENT_LENGTH") or 0)
            form = {key: values[0] for key, values in parse_qs(environ["wsgi.input"].read(length).decode()).items()}
            self.store.run(queries.ADD_BOOKING, form)
            return self.answer(start_response, "201 Created", self.page("Booked", "<p>See you at the quay.</p>"))
        pages = {"/": self.notices, "/bookings": self.bookings, "/boats": self.boats, "/documents": self.documents}
        if path not in pages:
            return self.answer(start_response, "404 Not Found", self.page("Not here", "<p>No such page.</p>"))
        return self.answer(start_response, "200 OK", pages[path]())

    def about(self):
        tokens = self.store.rows("SELECT payment_token FROM owners WHERE payment_token IS NOT NULL LIMIT 20")
        return {
            "product": "quaybook",
            "version": self.version,
            "schema": self.store.value("SELECT value FROM meta WHERE name = 'schema'"),
            "bookings": self.store.value("SELECT count(*) FROM bookings"),
            "tokens_readable": all(self.vault.can_open(token) for (token,) in tokens),
        }

    def notices(self):
        rows = self.store.rows("SELECT posted, title, body FROM notices ORDER BY posted DESC LIMIT 10")
        items = "".join(f"<article><h3>{html.escape(t)}</h3><p>{html.escape(b)}</p><small>{d}</small></article>"
                        for d, t, b in rows)
        return self.page("Harbour notices", items)

    def bookings(self):
        return self.page("Next bookings", self.table(self.store.rows(queries.BOOKINGS)))

    def boats(self):
        return self.page("Boats", self.table(self.store.rows(queries.BOATS)))

    def documents(self):
        return self.page("Documents", self.table(self.store.rows("SELECT kind, file, uploaded FROM documents LIMIT 50")))

    def table(self, rows):
        cells = ("".join(f"<td>{html.escape(str(cell))}</td>" for cell in row) for row in rows)
        return "<table>" + "".join(f"<tr>{row}</tr>" for row in cells) + "</table>"

    def page(self, title, body):
        harbour = html.escape(self.settings.harbour_name())
        return PAGE.format(title=title, harbour=harbour, body=body, version=self.version)

    def answer(self, start_response, status, text, kind="text/html; charset=utf-8"):
        body = text.encode()
        start_response(status, [("Content-Type", kind), ("Content-Length", str(len(body)))])
        return [body]
