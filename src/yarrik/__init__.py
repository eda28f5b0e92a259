"""Yarrik: composes reproducible, checked board images from recipes."""

__version__ = "0.1.0"
