"""The page Work and the head's fragment."""
