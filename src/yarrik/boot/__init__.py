"""What makes a board boot: command line, boot files of each method, memory map, the bench board, and the emulator."""

from yarrik.boot.bundle import memory_bundle
from yarrik.boot.command_line import CommandLine, RootUnfit, RootWish, Word, command_line, root_words
from yarrik.boot.console import console_problem
from yarrik.boot.emulator import BootOutcome, Talk, read_talk, run_emulator
from yarrik.boot.kernel_image import KernelFacts, KernelUnfit, kernel_facts, read_kernel
from yarrik.boot.memory_map import DEVICE_TREE_ROOM, MapUnfit, MemoryMap, memory_of, place_all, reserved_in
from yarrik.boot.menu import MENU_PATH, Menu, MenuEntry, encode_menu, read_menu
from yarrik.boot.method import METHODS, BootMethod
from yarrik.boot.parts import BootParts

__all__ = [
    "DEVICE_TREE_ROOM",
    "MENU_PATH",
    "METHODS",
    "BootMethod",
    "BootOutcome",
    "BootParts",
    "CommandLine",
    "KernelFacts",
    "KernelUnfit",
    "MapUnfit",
    "MemoryMap",
    "Menu",
    "MenuEntry",
    "RootUnfit",
    "RootWish",
    "Talk",
    "Word",
    "command_line",
    "console_problem",
    "encode_menu",
    "kernel_facts",
    "memory_bundle",
    "memory_of",
    "place_all",
    "read_kernel",
    "read_menu",
    "read_talk",
    "reserved_in",
    "root_words",
    "run_emulator",
]
