"""Help, the gallery of pieces, and the pages for errors."""
