"""What is asked over HTTP, and by whom it is vouched for."""

from __future__ import annotations

import functools
import ssl
from typing import TYPE_CHECKING, Any
from urllib.parse import urlsplit

# Loaded where it is used: it takes a tenth of a second, and most commands ask no page.
if TYPE_CHECKING:
    import httpx


@functools.cache
def authorities() -> ssl.SSLContext:
    """The certificate authorities that are trusted; read once, since a client that reads them takes 60 ms for it."""
    import httpx

    return httpx.create_ssl_context()


def faults(*others: type[Exception]) -> tuple[type[Exception], ...]:
    """What a client raises when a page gives no answer, and `others`; asked for where it is caught."""
    import httpx

    return (httpx.HTTPError, httpx.InvalidURL, *others)


def client(**wishes: Any) -> httpx.Client:
    """A client that trusts the common authorities, with no proxy of the environment unless it is wished for."""
    import httpx

    if "verify" not in wishes:
        wishes["verify"] = authorities()
    return httpx.Client(**{"trust_env": False, **wishes})


def client_of_page(url: str, within_s: float) -> httpx.Client:
    """A client for one page, which goes nowhere else: where nobody vouches for it, no authority is read."""
    is_vouched_for = urlsplit(url).scheme != "http"
    return client(timeout=within_s, follow_redirects=False, **({} if is_vouched_for else {"verify": False}))


def cookies() -> httpx.Cookies:
    """An empty jar."""
    import httpx

    return httpx.Cookies()


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
