"""Quaybook: berth bookings for a small harbour. Start with: python3 server.py"""

import signal
import sys
from pathlib import Path
from socketserver import ThreadingMixIn
from wsgiref.simple_server import WSGIRequestHandler, WSGIServer, make_server

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
    application = Application(Path(__file__).resolve().parent)
    host, port = application.settings.address()
    WSGIServer.server_bind = _bind_without_lookup
    server = make_server(host, port, application, Server, Handler)
    signal.signal(signal.SIGTERM, lambda *_: sys.exit(0))
    print(f"quaybook {application.version} listens on {host}:{port}", flush=True)
    server.serve_forever(poll_interval=0.1)


def _bind_without_lookup(server):
    server.socket.setsockopt(1, 2, 1)
    server.socket.bind(server.server_address)
    server.server_address = server.socket.getsockname()
    server.server_name, server.server_port = server.server_address[:2]
    server.setup_environ()


if __name__ == "__main__":
    main()
