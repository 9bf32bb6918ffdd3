"""The byte structures of files: one walker each, without a thought of what the sound in them means.

Everything that reads structures by hand stands on these: inspection, tags, encoders.
"""
