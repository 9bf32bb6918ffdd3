"""The voice of the product: phrases that do not come back, and labels that say in a few words what a press does."""

import ast
import html
import re
from collections.abc import Iterator
from pathlib import Path
from unittest import TestCase

ROOT = Path(__file__).resolve().parents[3] / "rumbrel"
LONGEST_LABEL = 28
UNITS = {"kHz", "bit", "kbit/s", "kbit/s after", "kB taken", "dBTP", "at least", "at most"}

# Each said something else to a practitioner than it meant, or nothing. What stands for it now is in the screens.
GONE = (
    "any more", "anew", "otherwise than", "no more is", "by your own hand", "all the same", "the other way round", "in sum",
    "call it otherwise", "watch no more", "they are gone", "look again", "onto the bench", "off the bench",
    "format anew", "may be taken out", "put them right", "back, without keeping", "turn round", "take doubles off",
    "hand over", "hold against", "held against", "run it first", "try the failed again", "verify again", "in step",
    "makes of all else", "what speaks for it", "what came of it", "its own page", "put on it", "what is marked",
    "take it back", "taken back", "put back", "says so already", "what grows", "deleted lately", "its display:",
    "by guessing alone", "open it all the same", "whatever they lack", "called in sentences", "folders in folders",
    "take what is left out", "it plays nothing of this", "without a coding", "unless said otherwise",
    "when a name is taken", "lay out that very disc", "it would fit", "take the list over", "take off the disc",
    "what is shown stands", "for a real burner", ">Listen</button>", "deep look", "list of checksums", "take it as it is",
    "bring in", "cut anew", "somebody who administers", "another password", "agreed only after", "whole ways",
    "there are to be", "was found where", "it is to be", "be put right", "unless said", "put right", "those right",
    "that right", "looked at", "goes on", "went on", "time and again", "is foreseen", "are foreseen", "go together",
    "as they are named there", "no such numbers", "asked for too often", "is not to be seen", "nobody carries",
)  # fmt: skip


def shown(template: str) -> str:
    """What a template shows: no tags, no names of things; what stands in for a value is a dot."""
    text = re.sub(r"\{#.*?#\}", " ", template)
    text = re.sub(r"\{%.*?%\}|\{\{.*?\}\}", "·", text)
    said = re.findall(r'(?:aria-label|title|placeholder)="([^"]*)"', text)
    return " ".join([re.sub(r"<[^>]*>", " | ", text), *said])


def sentences(code: str) -> Iterator[str]:
    """The texts of a module, but for docstrings and what is no text: patterns, keys, addresses."""
    tree = ast.parse(code)
    told = {
        id(node.value) for node in ast.walk(tree) if isinstance(node, ast.Expr) and isinstance(node.value, ast.Constant)
    }
    for node in ast.walk(tree):
        if (
            isinstance(node, ast.Constant)
            and isinstance(node.value, str)
            and id(node) not in told
            and " " in node.value
        ):
            yield node.value


def texts() -> Iterator[tuple[str, str]]:
    for path in sorted(ROOT.rglob("*")):
        if "migrations" in path.parts or "vendor" in path.parts or not path.is_file():
            continue
        if path.suffix == ".html" and "templates" in path.parts:
            yield str(path.relative_to(ROOT)), shown(path.read_text())
        elif path.suffix == ".py":
            yield str(path.relative_to(ROOT)), " | ".join(sentences(path.read_text()))
        elif path.suffix == ".js" and "scripts" in path.parts:
            code = re.sub(r"//.*", "", path.read_text())
            yield str(path.relative_to(ROOT)), " | ".join(re.findall(r"[\"`]([^\"`]* [^\"`]*)[\"`]", code))


class VoiceTests(TestCase):
    def test_phrases_that_nobody_understood_do_not_come_back(self) -> None:
        found = [
            f"{name}: {phrase}"
            for name, text in texts()
            for phrase in GONE
            if re.search(rf"\b{re.escape(phrase)}", text, re.IGNORECASE)
        ]
        self.assertEqual(found, [])

    def test_a_button_says_in_a_few_words_what_it_does(self) -> None:
        long, lower = [], []
        for path in sorted(ROOT.rglob("templates/**/*.html")):
            for label in re.findall(r"<button\b[^>]*>(.*?)</button>", path.read_text(), re.DOTALL):
                plain = re.sub(r'<kbd.*?</kbd>|<span class="sr-only".*?</span>|<[^>]*>', "", label)
                for choice in re.split(r"\{%.*?%\}", plain):
                    text = re.sub(r"\{\{.*?\}\}", "…", choice).strip()
                    if len(text) > LONGEST_LABEL:
                        long.append(f"{path.name}: {text}")
                    if text[:1].islower() and "{%" not in label and "{{" not in label:
                        lower.append(f"{path.name}: {text}")
        self.assertEqual(long, [])
        self.assertEqual(lower, [], "a label begins with a capital letter")

    def test_a_word_for_a_thing_and_a_head_for_a_column(self) -> None:
        heads = set()
        for path in ROOT.rglob("templates/**/*.html"):
            heads |= set(re.findall(r'<th scope="col"[^>]*>([^<{]+)</th>', path.read_text()))
        self.assertFalse(heads & {"Act", "No", "May", "It", "So", "Coding", "Left, m:s"})
        lower = {head for head in heads if not head[0].isupper()}
        self.assertLessEqual(lower, UNITS, "a head begins with a capital letter, but for a unit")

    def test_the_guide_names_what_is_on_the_screens(self) -> None:
        """Each label in italics stands in a template, a form, a state or a target."""
        pages = "\n".join(path.read_text() for path in ROOT.rglob("templates/**/*.html"))
        plain = re.sub(r"\s+", " ", html.unescape(re.sub(r"\{%.*?%\}|\{\{.*?\}\}|<[^>]*>", "", pages)))
        code = [path.read_text() for path in ROOT.rglob("*.py") if "migrations" not in path.parts]
        known = " ".join([plain, *code, *(path.read_text() for path in ROOT.rglob("*.toml"))]).lower()
        missing = [
            f"{page.name}: {label}"
            for page in sorted((ROOT.parent / "docs" / "guide").rglob("*.md"))
            for label in re.findall(r"(?<![*\w])\*([^*\n]+)\*(?!\*)", page.read_text())
            if label.lower() not in known
        ]
        self.assertEqual(missing, [])
