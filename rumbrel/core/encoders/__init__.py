"""What is written: the table of encodings, encoders by family, and coded sound repackaged."""
