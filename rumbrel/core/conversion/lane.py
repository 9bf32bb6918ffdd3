"""One result on its way: a chain, an encoder and a working file, fed with the blocks of a shared decode."""

from contextlib import ExitStack
from dataclasses import dataclass, replace
from pathlib import Path

from rumbrel.core.encoders.encodings import Encoder, encoding_for
from rumbrel.core.errors import OutputError, TagError
from rumbrel.core.files import output_errors, working_file
from rumbrel.core.forecast.steps import Step, Warning, WarningCode
from rumbrel.core.sound.digest import SampleDigest, digest_bits
from rumbrel.core.sound.shape import Block, SoundShape
from rumbrel.core.sound.stages import Cut, build_chain
from rumbrel.core.tags import (
    BROADCAST_CONTAINERS,
    Chapter,
    Cover,
    SoundChange,
    TagSet,
    apply_rules,
    cover_of,
    keep_broadcast,
    read_tags,
    with_fields,
    write_tags,
)

__all__ = ["Lane", "Passage", "carried_tags"]


@dataclass(frozen=True, slots=True, kw_only=True)
class Passage:
    """What went through: samples read and written; the digest of what was written where a lossless encoder has
    to give it back, and whether that is the source's too."""

    samples_in: int
    samples_out: int
    digest: SampleDigest | None
    is_exact: bool
    clipped_values: int
    not_numbers: int
    over_db: float
    damaged_packets: int


class Lane:
    """Open it, push every block, finish; error holds why it stopped, and closing removes what it left."""

    def __init__(self, step: Step, shape: SoundShape) -> None:
        self.step = step
        self.error: Exception | None = None
        self._stack = ExitStack()
        self._samples_out = 0
        self._encoder: Encoder | None = None
        try:
            self._open(step, shape)
        except Exception as error:  # noqa: BLE001 - it is this lane's alone, and told with its outcome
            self.error = error

    def _open(self, step: Step, shape: SoundShape) -> None:
        if step.shape is None or step.after is None:
            raise OutputError("The file changed after the forecast. Make the forecast again.")
        encoding = encoding_for(step.encoding)
        encoding.check_request(step.shape, step.target.make.settings)
        self._chain = build_chain(shape, step.shape, step.treatment)
        self._cut = Cut(step.treatment.start_sample, step.treatment.end_sample)
        self._is_exact = encoding.lossless and self._chain.is_exact and not shape.is_float
        self._digest = SampleDigest(digest_bits(step.shape)) if encoding.lossless else None
        self.working = self._stack.enter_context(working_file(Path(step.output)))
        with output_errors(self.working.parent):
            self._encoder = encoding.open(self.working, step.shape, step.target.make.settings)

    def push(self, block: Block) -> None:
        """Take a block of the source; after an error, nothing more."""
        if self.error is not None:
            return
        try:
            self._write(self._chain.push(self._cut.push(block)))
        except Exception as error:  # noqa: BLE001 - as in opening
            self.error = error

    def _write(self, shaped: Block) -> None:
        if len(shaped) and self._encoder is not None:
            self._samples_out += len(shaped)
            if self._digest:
                self._digest.push(shaped)
            self._encoder.write(shaped)

    def finish(self, samples_in: int, damaged_packets: int) -> Passage | None:
        """Write what is held back and close the encoder. None after an error."""
        if self.error is not None or self._encoder is None:
            return None
        try:
            for shaped in self._chain.finish():
                self._write(shaped)
            if not self._samples_out:
                raise OutputError(f"There is no sound in {Path(self.step.source.path).name}.")
            encoder, self._encoder = self._encoder, None
            encoder.finish()
        except Exception as error:  # noqa: BLE001 - as in opening
            self.error = error
            return None
        return Passage(
            samples_in=samples_in,
            samples_out=self._samples_out,
            digest=self._digest,
            is_exact=self._is_exact,
            clipped_values=self._chain.clipped_values + (0 if self._digest else self._chain.over_values),
            not_numbers=self._chain.not_numbers,
            over_db=self._chain.over_db,
            damaged_packets=damaged_packets,
        )

    def close(self) -> None:
        """Let go of the encoder and remove the working file, if it was not moved into place."""
        if self._encoder is not None:
            self._encoder.abandon()
            self._encoder = None
        self._stack.close()

    def write_tags(self) -> tuple[Warning, ...]:
        """Tags and covers by the target's rules; what cannot be held comes back as warnings."""
        encoding = encoding_for(self.step.encoding)
        warnings = put_tags(self.working, self.step, container=encoding.container, codec=encoding.codec)
        return warnings + _put_broadcast(self.working, self.step, encoding.container)


def put_tags(working: Path, step: Step, *, container: str, codec: str) -> tuple[Warning, ...]:
    """Write a source's tags into its result. Failures cost the tags, not the sound, and are said."""
    rules = step.target.tags
    tags, notes = apply_rules(carried_tags(step), rules)
    # What the container cannot hold at all was said in the forecast.
    known = {w.text for w in step.warnings if w.code is WarningCode.TAGS_LOST}
    try:
        lost = write_tags(working, tags, container=container, codec=codec, id3_version=rules.id3_version)
    except TagError as error:
        return (Warning(code=WarningCode.TAGS_LOST, text=str(error)),)
    texts = [f"The result cannot hold these tags: {', '.join(lost)}."] if lost else []
    texts += [f"Left out: {note}." for note in notes]
    if step.cover and not tags.covers and rules.covers != "none":
        texts.append("The picture that was chosen for the result is gone. Choose it again.")
    return tuple(Warning(code=WarningCode.TAGS_LOST, text=text) for text in texts if text not in known)


def _put_broadcast(working: Path, step: Step, container: str) -> tuple[Warning, ...]:
    """What a broadcast file states goes into a result of its family, unless the target wants certain tags only."""
    wanted = step.source.tags.broadcast and container in BROADCAST_CONTAINERS and not step.target.tags.keep
    if not wanted or step.shape is None:
        return ()
    treatment, stretch = step.treatment, step.source.stretch
    change = SoundChange(
        start_sample=treatment.start_sample + (stretch.start_sample if stretch else 0), source_rate=step.source.sample_rate, sample_rate=step.shape.sample_rate,
        depth_bits=step.shape.depth_bits, channels=step.shape.channels,
        louder=treatment.changes_samples,
    )  # fmt: skip
    try:
        broken = keep_broadcast(Path(step.source.path), working, change)
    except TagError as error:
        return (Warning(code=WarningCode.TAGS_LOST, text=str(error)),)
    text = f"Left out: {', '.join(broken)} of the source, which cannot be read."
    return (Warning(code=WarningCode.TAGS_LOST, text=text),) if broken else ()


_GAIN_FIELDS = frozenset({"track_gain", "album_gain", "track_peak", "album_peak"})


def carried_tags(step: Step) -> TagSet:
    """The source's tags with what the work itself yields. Facts hold no pictures, so those are read here."""
    facts = step.source
    fields = dict(facts.tags.fields)
    if step.treatment.gain_db:
        # They would no longer be true.
        fields = {name: values for name, values in fields.items() if name not in _GAIN_FIELDS}
    covers = () if step.bare else facts.tags.covers
    if step.cover:
        covers = _cover_in(Path(step.cover))
    elif covers:
        try:
            covers = read_tags(Path(facts.path), container=facts.container, codec=facts.codec).covers
        except TagError:
            covers = tuple(cover for cover in covers if cover.data)
    tags = replace(facts.tags, fields=fields, covers=covers, chapters=_cut_chapters(step))
    return with_fields(tags, step.extra_fields)


def _cover_in(path: Path) -> tuple[Cover, ...]:
    """The picture of a file, as the only one; none where the file is gone or no picture any more, which put_tags says."""
    try:
        return (cover_of(path.read_bytes()),)
    except (OSError, TagError):
        return ()


def _cut_chapters(step: Step) -> tuple[Chapter, ...]:
    facts, treatment = step.source, step.treatment
    start = treatment.start_sample / facts.sample_rate if facts.sample_rate else 0.0
    end = facts.duration_seconds if treatment.end_sample is None else treatment.end_sample / facts.sample_rate
    return tuple(
        replace(chapter, start_seconds=max(0.0, chapter.start_seconds - start),
                end_seconds=max(0.0, min(end, chapter.end_seconds) - start))
        for chapter in facts.tags.chapters
    )  # fmt: skip
