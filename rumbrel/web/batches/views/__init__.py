"""Forecast, run, report."""
