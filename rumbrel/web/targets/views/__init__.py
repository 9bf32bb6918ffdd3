"""Targets, and what plays where."""
