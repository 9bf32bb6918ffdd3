"""The screens of playlists."""
