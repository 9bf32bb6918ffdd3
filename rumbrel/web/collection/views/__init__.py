"""The screens of the collection."""
