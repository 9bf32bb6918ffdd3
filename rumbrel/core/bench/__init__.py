"""Stand-ins for devices, so that everything can be tried without hardware."""
