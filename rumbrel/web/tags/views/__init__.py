"""The screens of tags."""
