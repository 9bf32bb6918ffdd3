"""Makes the fonts that are printed from those that are shown: one TrueType file a weight, Latin and Latin extended.

Run after `npm ci`, with fonttools and brotli installed: python print_fonts.py. The results are kept in the repository.
"""

from pathlib import Path
from tempfile import TemporaryDirectory

from fontTools.merge import Merger
from fontTools.ttLib import TTFont
from fontTools.varLib.instancer import instantiateVariableFont

HERE = Path(__file__).parent
FONTS = HERE / "node_modules/@fontsource-variable/atkinson-hyperlegible-next/files"
RESULTS = HERE.parent / "rumbrel/core/inlay/fonts"


def static(name: str, weight: int, folder: Path) -> str:
    font = TTFont(FONTS / f"atkinson-hyperlegible-next-{name}-wght-normal.woff2")
    font = instantiateVariableFont(font, {"wght": weight}, inplace=False)
    font.flavor = None
    # Shaping is left to nobody: what is printed is placed sign by sign.
    for table in ("GSUB", "GPOS", "GDEF", "STAT"):
        if table in font:
            del font[table]
    path = folder / f"{name}-{weight}.ttf"
    font.save(path)
    return str(path)


with TemporaryDirectory() as folder:
    for weight, word in ((400, "Regular"), (700, "Bold")):
        parts = [static(name, weight, Path(folder)) for name in ("latin", "latin-ext")]
        merged = Merger().merge(parts)
        merged.save(RESULTS / f"AtkinsonHyperlegibleNext-{word}.ttf")
