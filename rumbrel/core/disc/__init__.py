"""Audio CDs to the sector: arithmetic, layout, cue sheet, image and read-back."""
