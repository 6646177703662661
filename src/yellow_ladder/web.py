"""What is asked over HTTP, and by whom it is vouched for."""

from __future__ import annotations

import functools
import ssl
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    import httpx


@functools.cache
def authorities() -> ssl.SSLContext:
    """The certificate authorities that are trusted; read once, since a client that reads them takes 60 ms for it."""
    import httpx

    return httpx.create_ssl_context()


def client(**wishes: Any) -> httpx.Client:
    """A client that trusts the common authorities, with no proxy of the environment unless it is wished for."""
    import httpx

    return httpx.Client(**{"trust_env": False, "verify": authorities(), **wishes})
