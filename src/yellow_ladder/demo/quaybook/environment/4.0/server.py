"""Quaybook: berth bookings for a small harbour. Since 4.0 it brings its schema up to date when it starts."""

import signal
import sys
from pathlib import Path
from socketserver import ThreadingMixIn
from wsgiref.simple_server import WSGIRequestHandler, WSGIServer, make_server

import manage
from quaybook.application import Application


class Server(ThreadingMixIn, WSGIServer):
    """Answers every request in a thread of its own."""

    daemon_threads = True
    request_queue_size = 64


class Handler(WSGIRequestHandler):
    """Keeps the log short and never looks a caller's name up."""

    def log_message(self, format, *args):
        pass

    def address_string(self):
        return self.client_address[0]


def main():
    manage.migrate(ask=False)
    print(f"schema is at {manage.schema()}", flush=True)
    application = Application(Path(__file__).resolve().parent)
    host, port = application.settings.address()
    server = make_server(host, port, application, Server, Handler)
    signal.signal(signal.SIGTERM, lambda *_: sys.exit(0))
    print(f"quaybook {application.version} listens on {host}:{port}", flush=True)
    server.serve_forever(poll_interval=0.1)


if __name__ == "__main__":
    main()
