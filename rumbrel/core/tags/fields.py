"""Fields as they are gathered from any format."""

__all__ = ["Fields", "add", "clean"]

Fields = dict[str, tuple[str, ...]]

# Stated by the encoder or the muxer about itself, not about the piece.
_TECHNICAL = frozenset({"encoder", "\xa9too", "tsse", "wm/encodingsettings", "itunsmpb", "vendor"})


def clean(value: object) -> str:
    """Text without the NULs that some writers leave at the end of a field."""
    return str(value).replace("\0", "").strip()


def add(fields: Fields, name: str, values: list[str]) -> None:
    """Add values to a field behind those it has; empty ones and what encoders say of themselves stay out."""
    kept = tuple(value for value in values if value)
    if kept and name.lower() not in _TECHNICAL:
        fields[name] = fields.get(name, ()) + kept
