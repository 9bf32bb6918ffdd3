"""Families of encodings: one table names them, one module each knows how to write and check them."""
