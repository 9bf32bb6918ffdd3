"""The screens of discs."""
