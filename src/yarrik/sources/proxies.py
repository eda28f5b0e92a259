"""Proxies of the settings, for everything that reaches a network: downloads, shared caches, and git."""

from __future__ import annotations

import os
from collections.abc import Mapping, Sequence


def use_proxies(proxies: Mapping[str, str], direct: Sequence[str]) -> None:
    """Takes proxies by the scheme of what is asked for (`http`, `https`), and hosts that are reached without one, for this
    process and those that it starts. What the environment says goes before them."""
    for scheme, url in sorted(proxies.items()):
        if not any(name in os.environ for name in (f"{scheme}_proxy", f"{scheme.upper()}_PROXY")):
            os.environ[f"{scheme}_proxy"] = url
    if direct and not any(name in os.environ for name in ("no_proxy", "NO_PROXY")):
        os.environ["no_proxy"] = ",".join(direct)
