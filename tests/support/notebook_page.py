"""A notebook's plain HTML, read back."""

from __future__ import annotations

from html.parser import HTMLParser


class Page(HTMLParser):
    """The tables of a page as lines of texts, one text for each column that a cell spans, and the lines beside them."""

    def __init__(self, html: str) -> None:
        super().__init__(convert_charrefs=True)
        self.open: list[str] = []
        self.tables: list[list[list[str]]] = []
        self.texts: list[str] = []
        self.span = 1
        self.feed(html)
        self.close()
        assert not self.open, f"{self.open} is not closed"

    def handle_starttag(self, tag: str, attributes: list[tuple[str, str | None]]) -> None:
        assert tag in ("div", "span", "table", "thead", "tbody", "tr", "th", "td"), tag
        assert {name for name, _ in attributes} <= {"style", "colspan", "scope"}
        self.open.append(tag)
        self.span = int(dict(attributes).get("colspan") or 1)
        if tag == "div":
            self.texts.append("")
        elif tag == "table":
            self.tables.append([])
        elif tag == "tr":
            self.tables[-1].append([])
        elif tag in ("td", "th"):
            self.tables[-1][-1] += [""] * self.span

    def handle_endtag(self, tag: str) -> None:
        assert self.open.pop() == tag

    def handle_data(self, data: str) -> None:
        if "td" in self.open or "th" in self.open:
            line = self.tables[-1][-1]
            line[-self.span :] = [text + data for text in line[-self.span :]]
        else:
            self.texts[-1] += data
