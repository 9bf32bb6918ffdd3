"""Screens of comparisons."""
