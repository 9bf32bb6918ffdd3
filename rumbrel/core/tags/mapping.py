"""The one mapping table between our field names and those of the tag formats.

ID3v2.4 frames (id3.org, from memory), MP4 atoms and Vorbis comment, APEv2, ASF, RIFF INFO and AIFF
names as they are in common use. A frame 'TXXX:NAME' or atom '----:NAME' is a free-form field of that name.
"""

from dataclasses import dataclass

__all__ = ["FIELDS", "FieldRow", "PAIRS", "row_for"]


@dataclass(frozen=True, slots=True, kw_only=True)
class FieldRow:
    """A field and its name in each tag format."""

    name: str
    label: str
    id3: str
    mp4: str
    vorbis: str
    ape: str
    asf: str
    riff: str
    aiff: str


def _row(
    name: str, label: str, id3: str, mp4: str, vorbis: str, ape: str, asf: str, riff: str = "", aiff: str = ""
) -> FieldRow:
    return FieldRow(name=name, label=label, id3=id3, mp4=mp4, vorbis=vorbis, ape=ape, asf=asf, riff=riff, aiff=aiff)


FIELDS: tuple[FieldRow, ...] = (
    _row("title", "Title", "TIT2", "\xa9nam", "TITLE", "Title", "Title", "INAM", "NAME"),
    _row("artist", "Performer", "TPE1", "\xa9ART", "ARTIST", "Artist", "Author", "IART", "AUTH"),
    _row("album", "Album", "TALB", "\xa9alb", "ALBUM", "Album", "WM/AlbumTitle", "IPRD"),
    _row("album_artist", "Album performer", "TPE2", "aART", "ALBUMARTIST", "Album Artist", "WM/AlbumArtist"),
    _row("composer", "Composer", "TCOM", "\xa9wrt", "COMPOSER", "Composer", "WM/Composer", "IMUS"),
    _row("songwriter", "Songwriter", "TEXT", "----:LYRICIST", "LYRICIST", "Lyricist", "WM/Writer"),
    _row("arranger", "Arranger", "TPE4", "----:ARRANGER", "ARRANGER", "Arranger", "WM/ModifiedBy"),
    _row("conductor", "Conductor", "TPE3", "----:CONDUCTOR", "CONDUCTOR", "Conductor", "WM/Conductor"),
    _row("track", "Track", "TRCK", "trkn", "TRACKNUMBER", "Track", "WM/TrackNumber", "ITRK"),
    _row("disc", "Disc", "TPOS", "disk", "DISCNUMBER", "Disc", "WM/PartOfSet"),
    _row("date", "Date", "TDRC", "\xa9day", "DATE", "Year", "WM/Year", "ICRD"),
    _row("genre", "Genre", "TCON", "\xa9gen", "GENRE", "Genre", "WM/Genre", "IGNR"),
    _row("comment", "Comment", "COMM", "\xa9cmt", "COMMENT", "Comment", "Description", "ICMT", "ANNO"),
    _row("lyrics", "Lyrics", "USLT", "\xa9lyr", "LYRICS", "Lyrics", "WM/Lyrics"),
    _row("copyright", "Copyright", "TCOP", "cprt", "COPYRIGHT", "Copyright", "Copyright", "ICOP", "(c) "),
    _row("publisher", "Publisher", "TPUB", "----:LABEL", "LABEL", "Label", "WM/Publisher"),
    _row("isrc", "ISRC", "TSRC", "----:ISRC", "ISRC", "ISRC", "WM/ISRC"),
    _row("bpm", "Beats per minute", "TBPM", "tmpo", "BPM", "BPM", "WM/BeatsPerMinute"),
    _row("language", "Language", "TLAN", "----:LANGUAGE", "LANGUAGE", "Language", "WM/Language", "ILNG"),
    _row("remixer", "Remixer", "TXXX:REMIXER", "----:REMIXER", "REMIXER", "MixArtist", "WM/RemixedBy"),
    _row("grouping", "Grouping", "TIT1", "\xa9grp", "GROUPING", "Grouping", "WM/ContentGroupDescription"),
    _row("subtitle", "Subtitle", "TIT3", "----:SUBTITLE", "SUBTITLE", "Subtitle", "WM/SubTitle"),
    _row("media", "Medium", "TMED", "----:MEDIA", "MEDIA", "Media", "WM/Media"),
    _row("catalogue", "Catalogue number", "TXXX:CATALOGNUMBER", "----:CATALOGNUMBER", "CATALOGNUMBER",
         "CatalogNumber", "WM/CatalogNo"),
    _row("title_sort", "Title sorted as", "TSOT", "sonm", "TITLESORT", "TitleSort", "WM/TitleSortOrder"),
    _row("artist_sort", "Performer sorted as", "TSOP", "soar", "ARTISTSORT", "ArtistSort", "WM/ArtistSortOrder"),
    _row("album_sort", "Album sorted as", "TSOA", "soal", "ALBUMSORT", "AlbumSort", "WM/AlbumSortOrder"),
    _row("album_artist_sort", "Album performer sorted as", "TSO2", "soaa", "ALBUMARTISTSORT", "AlbumArtistSort",
         "WM/AlbumArtistSortOrder"),
    _row("composer_sort", "Composer sorted as", "TSOC", "soco", "COMPOSERSORT", "ComposerSort", "WM/ComposerSortOrder"),
    _row("performer", "Musicians", "TMCL", "----:PERFORMER", "PERFORMER", "Performer", "WM/Performer"),
    _row("producer", "Producer", "TIPL:producer", "----:PRODUCER", "PRODUCER", "Producer", "WM/Producer"),
    _row("engineer", "Engineer", "TIPL:engineer", "----:ENGINEER", "ENGINEER", "Engineer", "WM/Engineer"),
    _row("mixer", "Mixing engineer", "TIPL:mixer", "----:MIXER", "MIXER", "Mixer", "WM/Mixer"),
    _row("djmixer", "DJ mixer", "TIPL:djmixer", "----:DJMIXER", "DJMIXER", "DJMixer", "WM/DJMixer"),
    _row("original_artist", "Original performer", "TOPE", "----:ORIGINALARTIST", "ORIGINALARTIST", "Original Artist",
         "WM/OriginalArtist"),
    _row("original_album", "Original album", "TOAL", "----:ORIGINALALBUM", "ORIGINALALBUM", "Original Album",
         "WM/OriginalAlbumTitle"),
    _row("work", "Work", "TXXX:WORK", "\xa9wrk", "WORK", "Work", "WM/Work"),
    _row("movement", "Movement", "MVNM", "\xa9mvn", "MOVEMENTNAME", "MovementName", "WM/MovementName"),
    _row("mood", "Mood", "TMOO", "----:MOOD", "MOOD", "Mood", "WM/Mood"),
    _row("key", "Key", "TKEY", "----:INITIALKEY", "INITIALKEY", "InitialKey", "WM/InitialKey"),
    _row("website", "Web address", "WOAR", "----:WEBSITE", "WEBSITE", "Weblink", "WM/AuthorURL"),
    _row("original_date", "Original date", "TDOR", "----:ORIGINALDATE", "ORIGINALDATE", "Originaldate", "WM/OriginalReleaseTime"),
    _row("compilation", "Compilation", "TCMP", "cpil", "COMPILATION", "Compilation", "WM/IsCompilation"),
    _row("pre_emphasis", "Pre-emphasis", "TXXX:PRE_EMPHASIS", "----:PRE_EMPHASIS", "PRE_EMPHASIS", "PRE_EMPHASIS",
         "PRE_EMPHASIS"),
    _row("barcode", "UPC/EAN", "TXXX:BARCODE", "----:BARCODE", "BARCODE", "Barcode", "WM/Barcode"),
    _row(
        "track_gain", "Track gain", "TXXX:REPLAYGAIN_TRACK_GAIN", "----:REPLAYGAIN_TRACK_GAIN",
        "REPLAYGAIN_TRACK_GAIN", "REPLAYGAIN_TRACK_GAIN", "REPLAYGAIN_TRACK_GAIN",
    ),
    _row(
        "track_peak", "Track peak", "TXXX:REPLAYGAIN_TRACK_PEAK", "----:REPLAYGAIN_TRACK_PEAK",
        "REPLAYGAIN_TRACK_PEAK", "REPLAYGAIN_TRACK_PEAK", "REPLAYGAIN_TRACK_PEAK",
    ),
    _row(
        "album_gain", "Album gain", "TXXX:REPLAYGAIN_ALBUM_GAIN", "----:REPLAYGAIN_ALBUM_GAIN",
        "REPLAYGAIN_ALBUM_GAIN", "REPLAYGAIN_ALBUM_GAIN", "REPLAYGAIN_ALBUM_GAIN",
    ),
    _row(
        "album_peak", "Album peak", "TXXX:REPLAYGAIN_ALBUM_PEAK", "----:REPLAYGAIN_ALBUM_PEAK",
        "REPLAYGAIN_ALBUM_PEAK", "REPLAYGAIN_ALBUM_PEAK", "REPLAYGAIN_ALBUM_PEAK",
    ),
)  # fmt: skip

PAIRS = frozenset({"track", "disc"})
"""Fields written as 'number/total'."""

_BY_NAME = {row.name: row for row in FIELDS}


_PATTERN_WORDS = {"performer": "artist", "players": "performer", "album_performer": "album_artist"}
PATTERN_NAMES: tuple[str, ...] = (*_PATTERN_WORDS, *(row.name for row in FIELDS if row.name not in _PATTERN_WORDS))
"""What patterns call the fields: the words of the screens, and beside them our own names where these mean the same."""


def field_in_pattern(name: str) -> str:
    """The field that a name in a pattern means."""
    return _PATTERN_WORDS.get(name, name)


def row_for(name: str) -> FieldRow | None:
    """The row of one of our field names, or None for a field nobody standardised."""
    return _BY_NAME.get(name)
