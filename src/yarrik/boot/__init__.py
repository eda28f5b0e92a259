"""What makes a board boot: the kernel's command line, the boot menu, kernel headers, and the emulator."""

from yarrik.boot.command_line import CommandLine, Word, command_line
from yarrik.boot.emulator import BootOutcome, Talk, read_talk, run_emulator
from yarrik.boot.kernel_image import KernelFacts, KernelUnfit, read_kernel
from yarrik.boot.menu import MENU_PATH, Menu, MenuEntry, encode_menu, read_menu

__all__ = [
    "MENU_PATH",
    "BootOutcome",
    "CommandLine",
    "KernelFacts",
    "KernelUnfit",
    "Menu",
    "MenuEntry",
    "Talk",
    "Word",
    "command_line",
    "encode_menu",
    "read_kernel",
    "read_menu",
    "read_talk",
    "run_emulator",
]
