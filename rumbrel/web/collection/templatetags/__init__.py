"""What the collection's templates load."""
