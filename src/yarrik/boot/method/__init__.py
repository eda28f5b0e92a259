"""The boot methods, in one table: in the order in which the bench tries them on images of which nothing is known."""

from __future__ import annotations

from yarrik.boot.method import entries, fit, menu, script, settings, uefi
from yarrik.boot.method.form import BootMethod

METHODS: dict[str, BootMethod] = {
    method.name: method for method in (menu.METHOD, script.METHOD, fit.METHOD, entries.METHOD, uefi.METHOD, settings.METHOD)
}

__all__ = ["METHODS", "BootMethod"]
