"""Screens of accounts."""
