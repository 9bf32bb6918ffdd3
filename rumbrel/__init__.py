"""Rumbrel prepares sound for anything that plays sound, and proves that what it made is right."""

__version__ = "0.2.0.dev0"
