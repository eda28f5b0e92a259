"""The kernel's command line, word by word, each with the reason why it stands there."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

#: Where the kernel looks for an init when nothing names one (init/main.c, kernel_init).
DEFAULT_INITS = ("/sbin/init", "/etc/init", "/bin/init", "/bin/sh")


@dataclass(frozen=True)
class Word:
    text: str
    origin: str


@dataclass(frozen=True)
class CommandLine:
    words: tuple[Word, ...]

    def __str__(self) -> str:
        return " ".join(word.text for word in self.words)


def command_line(root_device: str, console: str, init_path: str, arguments: Sequence[str]) -> CommandLine:
    """Computes the line from the layout's root partition, the board's console, the profile's init and extra words."""
    words = [
        Word(f"root={root_device}", "the partition that holds the root filesystem"),
        Word("rootwait", "storage may show up after the kernel has started"),
        Word("rw", "services write to the root filesystem"),
    ]
    if console:
        words.append(Word(f"console={console}", "the board's kernel.console"))
    if init_path not in DEFAULT_INITS:
        words.append(Word(f"init={init_path}", "the profile's init-path"))
    words += [Word(argument, "the board's kernel.arguments") for argument in arguments]
    return CommandLine(tuple(words))
