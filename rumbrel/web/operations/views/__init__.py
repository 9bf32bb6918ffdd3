"""Screens of an installation."""
