"""Markdown (CommonMark, with tables) as a channel shows it that knows plain text alone, in pieces that it takes."""

from collections.abc import Iterator, Mapping, Sequence
from typing import Any

from markdown_it import MarkdownIt
from markdown_it.token import Token

from oak_relay.triggers.channel import Piece, Shows

_READER = MarkdownIt("commonmark", {"html": False}).enable("table")


def pieces(shows: Shows, text: str, buttons: Sequence[str], files: Sequence[Mapping[str, Any]] = ()) -> list[Piece]:
    """What is sent of a message, one after the other: its files, then its text without marks, split where it may be, and its buttons
    beneath the last of them. Where a channel shows fewer, or shorter ones, they are told in lines with their numbers; where it takes
    no files, their names."""
    shown = plain(text) if text else ""
    sent = [Piece("", (), dict(one["file"]), one["what"]) for one in files] if shows.files else []
    if files and not sent:
        shown = "\n".join([shown, *(f"({one['name'] or one['what']})" for one in files)]).strip()
    if not shown and not buttons:
        return sent
    fits = len(buttons) <= shows.most and all(len(one) <= shows.label for one in buttons)
    if buttons and not fits:
        shown += "\n\n" + "\n".join(f"{number}. {one}" for number, one in enumerate(buttons, 1))
    parts = list(split(shown, shows.letters)) or [shown]
    return [*sent, *(Piece(part) for part in parts[:-1]), Piece(parts[-1], tuple(buttons) if fits else ())]


def split(text: str, most: int) -> Iterator[str]:
    """A text in parts of at most so many letters, cut between paragraphs, else lines, sentences or words; every word of it is in one
    of them."""
    rest = text.strip()
    while len(rest) > most:
        end = _cut(rest, most)
        part = rest[:end].rstrip()
        if part:
            yield part
        rest = rest[end:].lstrip()
    if rest:
        yield rest


def _cut(text: str, most: int) -> int:
    """Where a text that is too long is cut: as far behind as it can be without leaving a small part."""
    for between in ("\n\n", "\n", ". ", " "):
        found = text.rfind(between, most // 3, most + 1 - len(between.rstrip(" ")) or most)
        if found > 0:
            return found + len(between.rstrip())
    return most


def plain(text: str) -> str:
    """A text in Markdown as plain text: its marks are gone, the target of a link stands behind it, and each row of a table is a line
    that names its columns."""
    return "\n\n".join(_blocks(_READER.parse(text))).strip() or text.strip()


def _blocks(tokens: list[Token]) -> Iterator[str]:
    place, lists = 0, 0
    pending: list[str] = []
    numbers: list[int] = []
    while place < len(tokens):
        token = tokens[place]
        if token.type == "table_open":
            end = _end(tokens, place, "table_close")
            yield "\n".join(_rows(tokens[place:end]))
            place = end
        elif token.type in ("bullet_list_open", "ordered_list_open"):
            lists += 1
            numbers.append(int(token.attrGet("start") or 1) if token.type == "ordered_list_open" else 0)
        elif token.type in ("bullet_list_close", "ordered_list_close"):
            lists -= 1
            numbers.pop()
            if not lists:
                yield "\n".join(pending)
                pending = []
        elif token.type == "list_item_open":
            mark = f"{numbers[-1]}." if numbers[-1] else "•"
            numbers[-1] += bool(numbers[-1])
            pending.append("  " * (lists - 1) + mark)
        elif token.type in ("inline", "fence", "code_block", "html_block"):
            said = _inline(token) if token.type == "inline" else token.content.rstrip("\n")
            if not lists:
                yield said
            elif pending[-1].strip() in ("•", *(f"{one - 1}." for one in numbers)):
                pending[-1] += f" {said}"
            else:
                pending.append("  " * lists + said)
        elif token.type == "hr":
            yield "—"
        place += 1


def _end(tokens: list[Token], place: int, kind: str) -> int:
    return next((n for n in range(place, len(tokens)) if tokens[n].type == kind), len(tokens) - 1)


def _rows(tokens: list[Token]) -> Iterator[str]:
    """The rows of a table, each a line."""
    cells: list[str] = []
    heads: list[str] = []
    for place, token in enumerate(tokens):
        if token.type in ("th_open", "td_open"):
            cells.append(_inline(tokens[place + 1]))
        elif token.type == "tr_close":
            if not heads:
                heads = cells
            else:
                named = (f"{head}: {cell}" if head else cell for head, cell in zip(heads, cells, strict=False) if cell)
                yield "; ".join(named)
            cells = []


def _inline(token: Token) -> str:
    said: list[str] = []
    links: list[tuple[str, int]] = []
    for one in token.children or []:
        if one.type in ("text", "code_inline", "html_inline"):
            said.append(one.content)
        elif one.type in ("softbreak", "hardbreak"):
            said.append("\n")
        elif one.type == "link_open":
            links.append((str(one.attrGet("href") or ""), len(said)))
        elif one.type == "link_close" and links:
            target, begin = links.pop()
            if target and "".join(said[begin:]) != target:
                said.append(f" ({target})")
        elif one.type == "image":
            said.append(f"{one.content} ({one.attrGet('src')})".strip())
    return "".join(said)
