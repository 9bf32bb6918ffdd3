"""The two tables of containers and codecs, whose columns hold every trait of theirs that code asks for."""
