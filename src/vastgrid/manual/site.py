"""The manual as HTML: each page for the window, or all of them as a folder of pages for a browser."""

from __future__ import annotations

import html
import re
from functools import lru_cache
from importlib import resources
from pathlib import Path

from vastgrid import __version__
from vastgrid.base.files import make_folder, write_bytes, write_text
from vastgrid.manual.pages import Page, pages

_STYLE = """\
body{margin:0;font:16px/1.55 'Source Sans 3',system-ui,sans-serif;color:#23302f;background:#fbf9f4}
nav{position:fixed;inset:0 auto 0 0;width:260px;overflow:auto;padding:18px 16px;background:#f1ede3;border-right:1px solid #d9d2c2;box-sizing:border-box}
nav h2{font-size:13px;margin:18px 0 4px;color:#6b6455}nav a{display:block;padding:1px 0;text-decoration:none}
main{margin-left:260px;padding:24px 40px 80px;max-width:860px}a{color:#1f5f8b}
table{border-collapse:collapse;width:100%;font-size:14px}td,th{border-bottom:1px solid #ddd6c6;padding:4px 8px;text-align:left;vertical-align:top}
code,pre{font-family:'JetBrains Mono',ui-monospace,monospace;font-size:13px;background:#efeadd}pre{padding:10px 12px;overflow:auto}
blockquote{margin:8px 0;padding:4px 14px;border-left:3px solid #b9622b;background:#f4efe4}img{max-width:100%}
@media (prefers-color-scheme:dark){body{background:#1b2322;color:#e2ddd0}nav{background:#222b2a;border-color:#3a4443}a{color:#8fc1e3}code,pre,blockquote{background:#29332f}td,th{border-color:#3a4443}nav h2{color:#a79f8c}}
@media (max-width:760px){nav{position:static;width:auto}main{margin:0;padding:16px}}
"""


@lru_cache(maxsize=1)
def _markdown() -> object:
    from markdown_it import MarkdownIt

    # What stands in our own pages is not a stranger's, yet no page needs HTML of its own.
    return MarkdownIt("commonmark", {"html": False}).enable("table")


def anchor(text: str) -> str:
    """Return the name of a heading in links."""
    plain = re.sub(r"[`*_]", "", text).strip().lower()
    return re.sub(r"[^\w-]+", "-", plain).strip("-")


def body(page: Page, ending: str = ".html") -> str:
    """Return a page as HTML without its frame.

    Parameters
    ----------
    ending : str
        What links to other pages end in.
    """
    text = str(_markdown().render(page.text))  # type: ignore[attr-defined]

    def heading(found: re.Match[str]) -> str:
        plain = html.unescape(re.sub(r"<[^>]+>", "", found[2]))
        return f'<h{found[1]} id="{anchor(plain)}"><a name="{anchor(plain)}"></a>{found[2]}</h{found[1]}>'

    text = re.sub(r"<h([1-6])>(.*?)</h\1>", heading, text)
    known = {each.slug for each in pages()}

    def link(found: re.Match[str]) -> str:
        name, _, place = found[1].partition("#")
        slug = name.removesuffix(".md")
        if slug not in known:
            return found[0]
        return f'href="{slug}{ending}{"#" + place if place else ""}"'

    return re.sub(r'href="([^":]+)"', link, text)


def pictures() -> list[tuple[str, bytes]]:
    """Return the pictures that pages show, with their names."""
    folder = resources.files("vastgrid.manual") / "pages" / "pictures"
    return [(each.name, each.read_bytes()) for each in folder.iterdir()] if folder.is_dir() else []


def contents() -> list[tuple[str, list[Page]]]:
    """Return the parts of the manual with their pages."""
    parts: dict[str, list[Page]] = {}
    for each in pages():
        parts.setdefault(each.part, []).append(each)
    return list(parts.items())


def write_site(folder: Path) -> int:
    """Write every page into a folder, with an index; return how many.

    Raises
    ------
    WriteError
        If the system refuses.
    """
    make_folder(folder)
    for name, picture in pictures():
        make_folder(folder / "pictures")
        write_bytes(folder / "pictures" / name, picture)
    frame = "".join(
        f"<h2>{html.escape(part)}</h2>"
        + "".join(f'<a href="{each.slug}.html">{html.escape(each.title)}</a>' for each in own)
        for part, own in contents()
    )
    for each in pages():
        write_text(folder / f"{each.slug}.html", _framed(each.title, frame, body(each)))
    first = pages()[0]
    write_text(folder / "index.html", _framed("Manual", frame, body(first)))
    return len(pages())


def _framed(title: str, frame: str, text: str) -> str:
    return (
        f'<!doctype html><html lang="en"><head><meta charset="utf-8"><meta name="viewport" content="width=device-width">'
        f"<title>{html.escape(title)} – Vast Grid {__version__}</title><style>{_STYLE}</style></head>"
        f"<body><nav><b>Vast Grid {__version__}</b>{frame}</nav><main>{text}</main></body></html>"
    )
