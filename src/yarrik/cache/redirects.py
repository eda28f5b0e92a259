"""Where a server may send a client on to: another path of the same server, or a host that the user's settings name."""

from __future__ import annotations

from collections.abc import Collection
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    import httpx

#: Redirects that are followed one after the other.
MOST = 5


def http_client(timeout: httpx.Timeout, hosts: Collection[str], **more: Any) -> httpx.Client:
    """A client that follows redirects on the same host, or to `hosts`, and never from https to http.

    TLS certificates are checked. For any other redirect a request raises httpx.TooManyRedirects, with a sentence."""
    import httpx

    def check(answer: httpx.Response) -> None:
        if not answer.has_redirect_location:
            return
        here = answer.request.url
        there = here.join(answer.headers["location"])
        if here.scheme == "https" and there.scheme != "https":
            raise httpx.TooManyRedirects(f"it sends on from https to {there.scheme}://{there.host}", request=answer.request)
        if there.host != here.host and there.host not in hosts:
            way_out = f'redirect-hosts = ["{there.host}"] in the settings allows it'
            raise httpx.TooManyRedirects(f"it sends on to another host, {there.host}; {way_out}", request=answer.request)

    return httpx.Client(timeout=timeout, follow_redirects=True, max_redirects=MOST, event_hooks={"response": [check]}, **more)
