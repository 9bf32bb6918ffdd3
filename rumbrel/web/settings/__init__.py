"""Settings: base for use, test for the tests, ours for what is Rumbrel's own."""
