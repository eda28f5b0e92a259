"""The forms of services, in one table."""

from __future__ import annotations

from typing import TYPE_CHECKING

from yarrik.services.forms import plain, scripts, units

if TYPE_CHECKING:
    from yarrik.services.form import ServiceForm

SERVICE_FORMS: dict[str, ServiceForm] = {form.name: form for form in (plain.FORM, scripts.FORM, units.FORM)}

__all__ = ["SERVICE_FORMS"]
