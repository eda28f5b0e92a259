"""Tests: the rooms on their own, and the built program on files in a temporary folder."""
