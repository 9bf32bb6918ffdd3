"""What broadcast WAV states beside its sound, read back by FFmpeg and by bytes (EBU Tech 3285 and R 98, from memory)."""

import struct
from pathlib import Path

import av
import soundfile

from rumbrel.core.conversion import carry_out
from rumbrel.core.encoders.encodings import encoding_for
from rumbrel.core.forecast import Source, WarningCode, forecast_batch, gather_sources
from rumbrel.core.inspection import inspect_file
from rumbrel.core.inspection.stretches import Part, cut_out
from rumbrel.core.tags.broadcast import read_broadcast
from rumbrel.core.targets import find_target
from tests.core.case import FolderCase
from tests.core.encoders.test_encodings import plain_target
from tests.signals import convert_one, write_sound

MIDDAY = 12 * 3600 * 48_000
IXML = (
    '<?xml version="1.0" encoding="UTF-8"?><BWFXML><PROJECT>Quernstow</PROJECT><SPEED><FILE_SAMPLE_RATE>{rate}'
    "</FILE_SAMPLE_RATE><AUDIO_BIT_DEPTH>{depth}</AUDIO_BIT_DEPTH><DIGITIZER_SAMPLE_RATE>48000</DIGITIZER_SAMPLE_RATE>"
    "<TIMESTAMP_SAMPLES_SINCE_MIDNIGHT_HI>0</TIMESTAMP_SAMPLES_SINCE_MIDNIGHT_HI><TIMESTAMP_SAMPLES_SINCE_MIDNIGHT_LO>"
    "{low}</TIMESTAMP_SAMPLES_SINCE_MIDNIGHT_LO></SPEED></BWFXML>"
)


def bext(first: int, history: bytes = b"") -> bytes:
    texts = struct.pack("<256s32s32s10s8s", b"North tower", b"Orrel", b"XA-1", b"2024-05-01", b"12:00:00")
    # Version 2 with a UMID and a loudness of -18.5 LUFS.
    fixed = texts + struct.pack("<QH64s5h180x", first, 2, bytes(range(64)), -1850, 420, -110, -1700, -1750)
    assert len(fixed) == 602
    return fixed + history


def with_chunks(path: Path, chunks: list[tuple[bytes, bytes]]) -> Path:
    """Before the sound, where recorders put them."""
    data = path.read_bytes()
    extra = b"".join(struct.pack("<4sI", name, len(body)) + body + bytes(len(body) % 2) for name, body in chunks)
    data = data[:12] + extra + data[12:]
    path.write_bytes(data[:4] + struct.pack("<I", len(data) - 8) + data[8:])
    return path


class BroadcastTests(FolderCase):
    def _source(self) -> Path:
        path = write_sound(self.folder / "take.wav", 48_000, rate=48_000, subtype="PCM_24")
        ixml = IXML.format(rate=48_000, depth=24, low=MIDDAY).encode()
        return with_chunks(path, [(b"bext", bext(MIDDAY, b"A=PCM,F=48000,W=24\r\n\0\0")), (b"iXML", ixml)])

    def test_a_master_of_the_same_sound_keeps_all_of_it(self) -> None:
        source = self._source()
        self.assertEqual(inspect_file(source).tags.broadcast, ("bext", "iXML"))
        before = read_broadcast(source)
        master, histories = source, [b"A=PCM,F=48000,W=24"]
        for key in ("w64", "rf64"):
            target = plain_target(encoding_for(key))
            outcome = carry_out(forecast_batch(gather_sources([master]), target, self.folder / key).steps[0])
            self.assertTrue(outcome.ok, outcome.error)
            master = Path(outcome.step.output)
            after = read_broadcast(master)
            self.assertEqual((after[b"iXML"], after[b"bext"][:602]), (before[b"iXML"], before[b"bext"][:602]), key)
            histories.append(b"A=PCM,F=48000,W=24,M=stereo,T=Rumbrel")
            self.assertEqual(after[b"bext"][602:].split(b"\r\n"), [*histories, b""])
            self.assertEqual(soundfile.info(master).frames, 48_000, "another reader still finds the sound")
            data = master.read_bytes()
            total = (
                struct.unpack_from("<Q", data, 20)[0] + 8 if key == "rf64" else struct.unpack_from("<Q", data, 16)[0]
            )
            self.assertEqual(total, len(data), key)

    def test_what_is_no_longer_true_is_put_right(self) -> None:
        result = Path(convert_one(self._source(), "disc-wav", self.folder / "out").step.output)
        with av.open(str(result)) as read:
            said = read.metadata
        self.assertEqual((said["comment"], said["encoded_by"]), ("North tower", "Orrel"))
        self.assertEqual(int(said["time_reference"]), 12 * 3600 * 44_100)
        self.assertIn("A=PCM,F=44100,W=16,M=stereo", said["coding_history"])
        wanted = IXML.format(rate=44_100, depth=16, low=12 * 3600 * 44_100)
        self.assertIn(wanted.split("?>")[1].encode(), read_broadcast(result)[b"iXML"])

    def test_loudness_goes_where_levels_change_and_the_time_moves_with_a_cut(self) -> None:
        target = self.folder / "level.toml"
        target.write_text(
            'name = "L"\n[[accepts]]\ncodec = "pcm"\ncontainers = ["wav"]\nbit_depths = [16]\n'
            '[make]\nencoding = "wav"\nbit_depths = [16]\nhighpass_hz = 30\n'
        )
        body = read_broadcast(Path(convert_one(self._source(), str(target), self.folder / "l").step.output))[b"bext"]
        self.assertEqual(struct.unpack_from("<5H", body, 412), (0x7FFF,) * 5)
        self.assertEqual(struct.unpack_from("<Q", body, 338)[0], MIDDAY)
        taken = Part(start_sample=12_000, end_sample=36_000, fields={"title": ("Half",)})
        half = cut_out(inspect_file(self.folder / "take.wav"), taken)
        source = Source(id=0, path=self.folder / "take.wav", part=half.part, relative=Path("half.wav"))
        target = find_target("disc-wav")
        (step,) = forecast_batch([source], target, self.folder / "part", inspect=lambda _: half).steps
        outcome = carry_out(step)
        self.assertTrue(outcome.ok, outcome.error)
        said = read_broadcast(Path(outcome.step.output))
        moved = (MIDDAY + 12_000) * 441 // 480
        self.assertEqual(struct.unpack_from("<Q", said[b"bext"], 338)[0], moved)
        self.assertIn(str(moved).encode(), said[b"iXML"])

    def test_broken_ones_are_left_out_and_said_and_other_formats_say_what_they_lose(self) -> None:
        path = write_sound(self.folder / "bad.wav", 48_000, rate=48_000, subtype="PCM_24")
        with_chunks(path, [(b"bext", b"short"), (b"iXML", b'<!DOCTYPE x [<!ENTITY a "b">]><x>&a;</x>')])
        outcome = convert_one(path, "disc-wav", self.folder / "out")
        self.assertIn("Left out: bext, iXML", " ".join(w.text for w in outcome.warnings))
        self.assertEqual(read_broadcast(Path(outcome.step.output)), {})
        said = {w.code: w.text for w in convert_one(self._source(), "archive-flac", self.folder / "f").warnings}
        self.assertIn("bext and iXML", said[WarningCode.TAGS_LOST])
