"""All forms in one table, in the order in which bytes of which nothing is known are held against them."""

from __future__ import annotations

from yarrik.disk.form import FilesystemForm
from yarrik.disk.forms import archive, ext, fat, squashfs, swap

FORMS: dict[str, FilesystemForm] = {
    form.name: form for form in (archive.CPIO, squashfs.FORM, swap.FORM, ext.EXT4, ext.EXT2, fat.FORM, archive.TAR)
}

__all__ = ["FORMS", "FilesystemForm"]
