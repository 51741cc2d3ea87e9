"""The analyst's own text in a report: Markdown, with each chapter put where its heading says.

A heading of the first level that names a section of the report ("Modes", "kerb strike") puts what follows at the
section's beginning; what comes before the first one opens the report; any other heading makes a chapter of its own,
behind the section that was named last.
"""

from __future__ import annotations

import base64
import html
import re
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

from holokine.errors import DescriptionError
from holokine.show.report import Section

__all__ = ["OwnText"]

LARGEST_TEXT, LARGEST_PICTURE = 2_000_000, 8_000_000
_PICTURES = {b"\x89PNG\r\n\x1a\n": "png", b"\xff\xd8\xff": "jpeg", b"GIF8": "gif"}


@dataclass(frozen=True)
class _Chapter:
    heading: str
    markup: str


class OwnText:
    """Chapters of a Markdown file, rendered; markup in it stays text, pictures beside it are taken in."""

    def __init__(self, chapters: list[_Chapter]) -> None:
        self._chapters = chapters

    @classmethod
    def read(cls, path: Path) -> OwnText:
        """Read a Markdown file (CommonMark with tables).

        Raises
        ------
        DescriptionError
            It cannot be read, is too large, or names a picture that is not beside it.
        """
        from holokine.describe.files import refuse_devices

        try:
            refuse_devices(path)
            if path.stat().st_size > LARGEST_TEXT:
                raise DescriptionError(f"{path}: larger than {LARGEST_TEXT / 1e6:.0f} MB; a report takes text")
            text = path.read_text(encoding="utf-8-sig")
        except OSError as err:
            raise DescriptionError(f"{path}: cannot be read ({err.strerror})") from None
        except UnicodeDecodeError:
            raise DescriptionError(f"{path}: is not text in UTF-8") from None
        return cls(_chapters(text, path))

    def placed(self, sections: list[Section]) -> list[Section]:
        """The sections with the chapters between and within them."""
        result = list(sections)
        behind = -1
        for chapter in self._chapters:
            if not chapter.heading:
                result.insert(0, Section("Summary").with_own(chapter.markup))
                behind = 0
                continue
            wanted = _alike(chapter.heading)
            at = next((n for n, s in enumerate(result) if wanted in (_alike(s.title), _alike(s.name))), None)
            if at is None:
                behind += 1
                result.insert(behind, Section(chapter.heading).with_own(chapter.markup))
            else:
                result[at]._html.insert(0, f'<div class="own">{chapter.markup}</div>')
                behind = at
        return result


def _alike(text: str) -> str:
    return re.sub(r"[\W_]+", " ", text.lower()).strip()


def _chapters(text: str, path: Path) -> list[_Chapter]:
    from markdown_it import MarkdownIt

    reader = MarkdownIt("commonmark", {"html": False}).enable("table")
    reader.add_render_rule("image", lambda own, tokens, n, options, env: _picture(tokens[n], path))
    tokens = reader.parse(text)
    for token in tokens:  # below the headings of the report's own
        if token.type in ("heading_open", "heading_close") and token.tag != "h1":
            token.tag = f"h{min(int(token.tag[1]) + 1, 6)}"
    starts = [n for n, t in enumerate(tokens) if t.type == "heading_open" and t.tag == "h1" and t.level == 0]
    env: dict[str, Any] = {}
    found = []
    first = tokens[: starts[0]] if starts else tokens
    if first:
        found.append(_Chapter("", reader.renderer.render(first, reader.options, env)))
    for n, start in enumerate(starts):
        end = starts[n + 1] if n + 1 < len(starts) else len(tokens)
        heading = tokens[start + 1].content.strip()
        markup = reader.renderer.render(tokens[start + 3 : end], reader.options, env)
        found.append(_Chapter(heading or "Note", markup))
    return [replace(c, markup=c.markup.replace("<table>", '<div class="scroll"><table>').replace(
        "</table>", "</table></div>")) for c in found]  # fmt: skip


def _picture(token: Any, path: Path) -> str:
    """A picture beside the text, taken into the page."""
    source = str(token.attrs.get("src", ""))
    line = f"{path}: picture {source!r}"
    if re.match(r"[a-zA-Z][\w+.-]*:|//", source):
        raise DescriptionError(f"{line}: a report takes in pictures that lie beside its text; save it there")
    from urllib.parse import unquote

    from holokine.describe.files import refuse_devices

    home = path.resolve().parent
    file = (home / unquote(source)).resolve()
    if not file.is_relative_to(home):
        raise DescriptionError(f"{line}: lies outside the folder of the text; put it beside it")
    refuse_devices(file)
    try:
        if file.stat().st_size > LARGEST_PICTURE:
            raise DescriptionError(f"{line}: larger than {LARGEST_PICTURE / 1e6:.0f} MB")
        data = file.read_bytes()
    except OSError as err:
        raise DescriptionError(f"{line}: cannot be read ({err.strerror})") from None
    kind = next((k for begin, k in _PICTURES.items() if data.startswith(begin)), None)
    if kind is None:
        raise DescriptionError(f"{line}: is no PNG, JPEG or GIF")
    words = html.escape(token.content)
    code = base64.b64encode(data).decode("ascii")
    return f'<img alt="{words}" src="data:image/{kind};base64,{code}" style="max-width:100%">'
