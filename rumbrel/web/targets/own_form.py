"""The form for a target of one's own, in the trade's terms: from a Target to fields, and from fields to TOML."""

import re
from collections.abc import Iterator, Mapping
from dataclasses import fields
from typing import Any

import tomli_w
from django import forms

from rumbrel.core.encoders.encodings import ENCODINGS, Encoding
from rumbrel.core.formats.table import CODECS, CONTAINER_BY_KEY, CONTAINERS, format_label
from rumbrel.core.places import FILE_SYSTEMS
from rumbrel.core.sound.dither import DITHERS
from rumbrel.core.tags.mapping import FIELDS
from rumbrel.core.targets import Accepts, Target
from rumbrel.core.targets.model import BITRATE_MODES, CHANNEL_MODES, PlayerRule
from rumbrel.web.ui.words import LEVEL_WORDS

__all__ = ["AcceptedForm", "TargetForm", "accepted_forms"]

_RATES_HZ = (8000, 11025, 12000, 16000, 22050, 24000, 32000, 44100, 48000, 88200, 96000, 176400, 192000)
_USUAL_KBPS = (8, 16, 24, 32, 40, 48, 56, 64, 80, 96, 112, 128, 160, 192, 224, 256, 320, 384, 448, 510)
_CHANNEL_WORDS = {1: "mono", 2: "stereo"}
_ENCODING_OF = {row.key: row for row in ENCODINGS}
_LEAST_ROWS = 1
MOST_ROWS = 12


def _khz(rate: int) -> str:
    return f"{rate / 1000:g}"


class _Several(forms.TypedMultipleChoiceField):
    """Some of a few whole numbers, as boxes to tick."""

    def __init__(self, values: tuple[int, ...], words: Mapping[int, str], label: str) -> None:
        choices = [(value, words.get(value, str(value))) for value in values]
        super().__init__(
            choices=choices, coerce=int, required=False, label=label, widget=forms.CheckboxSelectMultiple()
        )


def _choice(label: str, choices: list[tuple[str, str]]) -> forms.ChoiceField:
    return forms.ChoiceField(required=False, label=label, choices=choices)


def _number(label: str, low: float, high: float, *, whole: bool = True) -> forms.IntegerField | forms.FloatField:
    kind = forms.IntegerField if whole else forms.FloatField
    widget = forms.NumberInput(attrs={"step": "1" if whole else "any"})
    return kind(required=False, label=label, min_value=low, max_value=high, widget=widget)


_OF_PLAYER = tuple(each.name for each in fields(PlayerRule))


class TargetForm(forms.Form):
    """What is made and how; only what the chosen encoding has is offered. Fields are called as the keys of the TOML."""

    name = forms.CharField(max_length=120, label="Name")
    about = forms.CharField(required=False, max_length=400, label="For what")
    device = forms.CharField(required=False, max_length=80, label="Short name")
    verb = _choice("It", [("plays", "plays what suits it"), ("accepts", "accepts what suits it")])
    strict = forms.BooleanField(required=False, label="Strict: no tolerance in bitrates, and no fault")
    encoding = _choice("Format made", [(row.key, row.label) for row in ENCODINGS])
    highpass_hz = _number("High-pass, Hz", 1, 2000, whole=False)
    level_mode = _choice("Loudness", list(LEVEL_WORDS.items()))
    loudness_lufs = _number("Loudness, LUFS", -40, -5, whole=False)
    ceiling_dbtp = _number("Ceiling, dBTP", -20, 0, whole=False)
    limits = forms.BooleanField(required=False, label="Limit peaks where the loudness would lift them above it")
    covers = _choice("Covers", [("all", "all"), ("front", "the front one"), ("none", "none")])
    cover_pixels = _number("Covers at most, pixels", 16, 10_000)
    cover_bytes = _number("Covers at most, bytes", 1_000, 16_000_000)
    keep = forms.MultipleChoiceField(
        required=False, label="Only these tags", choices=[(row.name, row.label) for row in FIELDS],
        widget=forms.SelectMultiple(attrs={"size": 5}),
    )  # fmt: skip
    pattern = forms.CharField(required=False, max_length=300, label="Naming pattern")
    file_system = _choice("File system", [(row.key, row.label) for row in FILE_SYSTEMS])
    longest = _number("Names at most, characters", 8, 255)
    kind = _choice("Lists", [("m3u8", "M3U8"), ("m3u", "M3U"), ("none", "none")])
    folder_each = forms.BooleanField(required=False, label="A folder for each list")
    file_systems = forms.MultipleChoiceField(
        required=False, label="File systems it reads", choices=[(row.key, row.label) for row in FILE_SYSTEMS],
        widget=forms.CheckboxSelectMultiple(),
    )  # fmt: skip
    largest_volume_gb = _number("Volumes at most, GB", 1, 100_000)
    deepest_folders = _number("Folder depth at most", 0, 100)
    most_in_folder = _number("Entries in a folder at most", 1, 1_000_000)
    most_tracks = _number("Tracks on a volume at most", 1, 10_000_000)
    order = _choice("Plays a folder", [("written", "in the order in which it was written"), ("names", "by names")])
    shows = _choice("Display shows", [("tags", "its tags"), ("names", "its file name")])
    display_signs = _number("Characters the display shows", 8, 500)

    GROUPS = (
        ("What it is", ("name", "about", "device", "verb", "strict")),
        (
            "Everything else is converted to",
            (
                "encoding", "mode", "bitrate_kbps", "quality", "effort", "joint_stereo", "sample_rates", "bit_depths",
                "channels", "highpass_hz", "dither",
            ),
        ),
        ("Loudness", ("level_mode", "loudness_lufs", "ceiling_dbtp", "limits")),
        ("Tags and covers", ("id3", "covers", "cover_pixels", "cover_bytes", "keep")),
        ("Names and lists", ("pattern", "file_system", "longest", "kind", "folder_each")),
        ("Sticks and cards in it", _OF_PLAYER),
    )  # fmt: skip

    def __init__(self, data: Any = None, **more: Any) -> None:
        super().__init__(data, **more)
        asked = (data or {}).get("encoding") or self.initial.get("encoding")
        self.encoding = _ENCODING_OF.get(asked, ENCODINGS[0])
        for name, field in self._offered(self.encoding):
            self.fields[name] = field

    def _offered(self, encoding: Encoding) -> Iterator[tuple[str, forms.Field]]:
        if len(encoding.modes) > 1 or encoding.bitrates_kbps != ():
            yield "mode", _choice("Bitrate mode", [("", "the usual one"), *((mode, mode) for mode in encoding.modes)])
        if encoding.bitrates_kbps != ():
            rates = encoding.bitrates_kbps or _USUAL_KBPS
            yield (
                "bitrate_kbps",
                _choice("Bitrate, kbit/s", [("", "the encoder’s usual"), *((str(k), str(k)) for k in rates)]),
            )
        if encoding.has_quality:
            yield "quality", _number("Quality of a variable bitrate, 0 to 1", 0, 1, whole=False)
        if encoding.efforts is not None:
            low, high = encoding.efforts
            yield "effort", _number(f"Effort of the encoder, {low} to {high}", low, high)
        if encoding.codec == "mp3":
            yield "joint_stereo", forms.BooleanField(required=False, label="Joint stereo always (below 160 kbit/s)")
        words = {rate: _khz(rate) for rate in _RATES_HZ}
        yield "sample_rates", _Several(encoding.rates or _RATES_HZ, words, "Sample rates made, kHz")
        if len(encoding.depths) > 1:
            yield "bit_depths", _Several(tuple(sorted(encoding.depths)), {}, "Bit depths made")
        if encoding.depths:
            yield "dither", _choice("Dither, where bits are lost", list(DITHERS.items()))
        yield "channels", _Several(encoding.channel_counts[:8], _CHANNEL_WORDS, "Channels made")
        if CONTAINER_BY_KEY[encoding.container].tags.name in ("ID3", "RIFF", "AIFF"):
            yield "id3", _choice("ID3 version", [("2.4", "2.4"), ("2.3", "2.3, for older players")])

    def groups(self) -> list[tuple[str, list[forms.BoundField]]]:
        """(heading, fields) as the page shows them, without what the encoding does not have."""
        return [(heading, [self[name] for name in names if name in self.fields]) for heading, names in self.GROUPS]

    @staticmethod
    def values_of(target: Target) -> dict[str, Any]:
        """A target as the form shows it."""
        settings, level, tags, names = target.make.settings, target.level, target.tags, target.names
        return {
            "name": target.name, "about": target.about, "device": target.device, "verb": target.verb,
            "strict": target.strict, "encoding": target.make.encoding, "mode": settings.mode or "",
            "bitrate_kbps": settings.bitrate_kbps, "quality": settings.quality, "effort": settings.effort,
            "joint_stereo": bool(settings.joint_stereo), "sample_rates": list(target.make.sample_rates),
            "bit_depths": list(target.make.bit_depths), "channels": list(target.make.channels),
            "highpass_hz": target.make.highpass_hz, "dither": target.make.dither, "level_mode": level.mode, "loudness_lufs": level.loudness_lufs,
            "ceiling_dbtp": level.ceiling_dbtp, "limits": level.limits, "id3": f"2.{tags.id3_version}",
            "covers": tags.covers, "cover_pixels": tags.cover_pixels, "cover_bytes": tags.cover_bytes,
            "keep": list(tags.keep), "pattern": names.pattern, "file_system": names.file_system,
            "longest": names.longest, "kind": target.playlists.kind, "folder_each": target.playlists.folder_each,
            **{name: getattr(target.player, name) for name in _OF_PLAYER},
        }  # fmt: skip

    def description(self, accepted: list["AcceptedForm"]) -> str:
        """The target as TOML. Values that a field refuses never come here."""
        sent = self.cleaned_data

        def some(*names: str) -> dict[str, Any]:
            # A nought that was typed is a value; nothing, and a box that was not ticked, are none.
            return {
                name: sent[name] for name in names if sent.get(name) not in (None, "", []) and sent[name] is not False
            }

        make = some(
            "encoding", "mode", "quality", "effort", "joint_stereo", "sample_rates", "bit_depths", "channels",
            "highpass_hz", "dither",
        )  # fmt: skip
        if sent.get("bitrate_kbps"):
            make["bitrate_kbps"] = int(sent["bitrate_kbps"])
        level = some("loudness_lufs", "ceiling_dbtp", "limits")
        if sent.get("level_mode"):
            level["mode"] = sent["level_mode"]
        record = some("name", "about", "device", "verb", "strict") | {
            "accepts": [form.record() for form in accepted if form.record()],
            "make": make,
            "tags": some("id3", "covers", "cover_pixels", "cover_bytes", "keep"),
            "level": level,
            "names": some("pattern", "file_system", "longest"),
            "playlists": some("kind", "folder_each"),
            "player": some(*_OF_PLAYER),
        }
        return tomli_w.dumps(record)

    def refused(self, said: str) -> None:
        """Put a refusal beside the field that it names, or above all where it names none."""
        named = re.search(r"'(\w+)'", said)
        words = (
            ("pattern", "pattern"), ("bitrate_kbps", " bitrate of "), ("mode", " bitrate; it has"), ("quality", "quality"),
            ("effort", "effort"), ("joint_stereo", "joint stereo"), ("sample_rates", "sample rate"),
            ("channels", "channels"), ("bit_depths", "bit samples"),
        )  # fmt: skip
        guessed = next((name for name, word in words if word in said), "")
        field = named[1] if named and named[1] in self.fields else guessed
        self.add_error(field if field in self.fields else None, said)


def _numbers(text: str, scale: float) -> list[int]:
    """Whole numbers in a text that commas or spaces part; a comma is never a decimal one."""
    words = [word for word in re.split(r"[,;\s]+", text.strip()) if word]
    return [round(float(word) * scale) for word in words]


class _Numbers(forms.CharField):
    """Some numbers in one line."""

    def __init__(self, label: str, scale: float = 1) -> None:
        super().__init__(required=False, max_length=200, label=label)
        self.scale = scale

    def clean(self, value: Any) -> list[int]:
        try:
            return _numbers(super().clean(value), self.scale)
        except (ValueError, OverflowError) as error:
            raise forms.ValidationError("Write numbers with commas between them.") from error


class AcceptedForm(forms.Form):
    """One kind of file that plays as it is; what is left open sets no limit."""

    codec = _choice("Codec", [("", "(none)"), *((row.key, row.label) for row in CODECS)])
    containers = forms.MultipleChoiceField(
        required=False, label="In", choices=[(row.key, row.label) for row in CONTAINERS],
        widget=forms.SelectMultiple(attrs={"size": 3}),
    )  # fmt: skip
    sample_rates = _Numbers("Rates, kHz", 1000)
    bit_depths = _Numbers("Depths, bit")
    channels = _Numbers("Channels")
    max_bitrate_kbps = _number("At most, kbit/s", 1, 100_000)
    bitrates_kbps = _Numbers("Exactly, kbit/s")
    modes = forms.MultipleChoiceField(
        required=False, label="Modes", choices=[(mode, mode) for mode in BITRATE_MODES],
        widget=forms.SelectMultiple(attrs={"size": 3}),
    )  # fmt: skip
    channel_modes = forms.MultipleChoiceField(
        required=False, label="Channel modes", choices=[(mode, mode) for mode in CHANNEL_MODES],
        widget=forms.SelectMultiple(attrs={"size": 3}),
    )  # fmt: skip
    video = forms.BooleanField(required=False, label="With pictures")

    @staticmethod
    def values_of(row: Accepts) -> dict[str, Any]:
        listed = lambda values, scale=1: ", ".join(f"{value / scale:g}" for value in values)  # noqa: E731
        return {
            "codec": row.codec, "containers": list(row.containers), "sample_rates": listed(row.sample_rates, 1000),
            "bit_depths": listed(row.bit_depths), "channels": listed(row.channels),
            "max_bitrate_kbps": row.max_bitrate_kbps, "bitrates_kbps": listed(row.bitrates_kbps),
            "modes": list(row.modes), "channel_modes": list(row.channel_modes), "video": row.video,
        }  # fmt: skip

    def record(self) -> dict[str, Any]:
        """The row as TOML has it; empty where it names no coding."""
        sent = self.cleaned_data
        if not sent.get("codec"):
            return {}
        return {name: value for name, value in sent.items() if value not in (None, "", [], False)} | {
            "containers": sent["containers"]
        }

    @property
    def title(self) -> str:
        codec, containers = self["codec"].value(), self["containers"].value() or [""]
        return format_label(containers[0], codec) if codec else "another kind"


def accepted_forms(data: Any = None, rows: tuple[Accepts, ...] = ()) -> list[AcceptedForm]:
    """A form for each kind, and an empty one for another."""
    if data is None:
        values: list[dict[str, Any]] = [AcceptedForm.values_of(row) for row in rows] + [{}]
        return [AcceptedForm(initial=each, prefix=f"accepts{number}") for number, each in enumerate(values)]
    count = _LEAST_ROWS
    while count < MOST_ROWS and f"accepts{count}-codec" in data:
        count += 1
    return [AcceptedForm(data, prefix=f"accepts{number}") for number in range(count)]
