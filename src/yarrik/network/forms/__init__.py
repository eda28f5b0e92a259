"""The forms of network interfaces, in one table."""

from __future__ import annotations

from yarrik.network.form import NetworkForm
from yarrik.network.forms import interfaces, plain, units

NETWORK_FORMS: dict[str, NetworkForm] = {form.name: form for form in (plain.FORM, interfaces.FORM, units.FORM)}

__all__ = ["NETWORK_FORMS"]
