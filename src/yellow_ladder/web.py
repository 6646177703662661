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


def why(fault: Exception) -> str:
    """Why a page gave no answer, in words; what is not known better is told as it was said."""
    import httpx

    said = str(fault) or type(fault).__name__
    if isinstance(fault, httpx.TimeoutException):
        return "it did not answer in time"
    if isinstance(fault, httpx.ConnectError):
        known = {
            "refused": "nobody listens there (connection refused)",
            "not known": "its host is not known",
            "unreachable": "no way there",
        }
        return next((words for sign, words in known.items() if sign in said), said)
    return said
