"""Tags of the disc screens."""
