"""Tests: core by example and by property, web through Django's client, main flows in a browser."""
