"""Rounds in which the running application is hurt while it works: `./run faults`."""
