"""Hands that write a workflow on the page *Workflow*, in its script and bench alone."""

import json
import re
from typing import Any

from playwright.sync_api import Locator, Page, expect

KINDS = {
    "set": "Set values", "branch": "Choose one of several ways", "each": "For each item of a list", "together": "Do things side by side",
    "repeat": "Repeat until something holds", "wait": "Wait", "ask": "Ask a person", "reply": "Reply to the caller", "emit": "Publish an event",
    "stop": "End the run here", "fail": "Fail the run",
}  # fmt: skip


_STOPS = """one => {
  const at = document.activeElement
  if (at === one) return 0
  const stops = [...document.querySelectorAll('a[href], button, input, select, textarea, summary, [tabindex]')]
    .filter((stop) => stop.tabIndex >= 0 && !stop.disabled && stop.checkVisibility())
  const to = stops.indexOf(one)
  if (to < 0) return 1
  const from = at === document.body ? -1 : stops.indexOf(at)
  if (from >= 0 || at === document.body) return to - from
  return at.compareDocumentPosition(one) & Node.DOCUMENT_POSITION_FOLLOWING ? 1 : -1
}"""
"""How many stops of the Tab key lie between the focus and an element; below zero when it stands before."""


def words(name: str) -> str:
    said = name.replace("_", " ")
    return said.upper() if said in ("url", "json", "id") else said[:1].upper() + said[1:]


class Hands:
    """What a person does; `actions` counts clicks, keys that are commands, and fields that are written."""

    def __init__(self, page: Page, actions: dict[str, Any]) -> None:
        self.page, self.known, self.actions = page, actions, 0
        self.script = page.get_by_role("region", name="Script")
        self.bench = page.get_by_role("region", name="Bench")

    def press(self, key: str) -> None:
        self.actions += 1
        self.page.keyboard.press(key)

    def click(self, what: Locator) -> None:
        self.actions += 1
        self.hit(what)

    def hit(self, what: Locator) -> None:
        what.click()

    def put(self, box: Locator, text: str) -> None:
        """Write a text into a field and leave it."""
        box.fill(text)
        box.blur()

    def write_in(self, box: Locator, text: str) -> None:
        self.actions += 1
        box.fill(text)

    def pick(self, box: Locator, value: str) -> None:
        box.select_option(value)

    def check(self, box: Locator, on: bool) -> None:
        box.set_checked(on)

    def choose(self, path: str) -> None:
        self.click(self.script.locator(f'[data-path="{path}"]'))
        if self.bench.count():
            expect(self.bench).to_have_attribute("data-line", path)

    def shown(self, path: str) -> None:
        expect(self.script.locator(f'[data-path="{path}"]')).to_be_visible()

    def add(self, behind: str, step: dict[str, Any], path: str) -> None:
        """A new line behind one, of the kind of a step; then it is named."""
        kind = next((one for one in KINDS if one in step), "")
        self.choose(behind)
        self.press("Enter")
        if "do" in step:
            self.page.keyboard.type(step["do"])
            option = self.page.get_by_role("option").filter(has_text=step["do"]).first
        elif "run" in step:
            self.page.keyboard.type(step["run"])
            option = self.page.get_by_role("option", name=f"Run {step['run']}").first
        elif kind:
            self.page.keyboard.type(KINDS[kind])
            option = self.page.get_by_role("option").first
        else:
            self.page.keyboard.type(step["todo"])
            option = self.page.get_by_role("option", name="to be written later")
        self.take(option)
        self.named(path, step["step"])

    def new_line(self, behind: str, words: str) -> None:
        """A new line behind one, found by what is typed."""
        self.choose(behind)
        self.press("Enter")
        self.actions += 1
        self.page.keyboard.type(words)
        expect(self.script.get_by_role("option").first).to_contain_text(words)
        self.press("Enter")

    def set(self, title: str, value: str) -> None:
        """Choose a value of a field."""
        self.actions += 1
        self.pick(self.field(title).locator("select"), value)

    def take(self, option: Locator) -> None:
        self.click(option)

    def named(self, path: str, name: str) -> None:
        line = self.script.locator(f'[data-path="{path}"]')
        expect(line).to_be_focused()
        if line.locator(".step").inner_text() == name:
            return
        self.press("F2")
        expect(self.script.locator(".naming")).to_be_focused()
        self.press("Control+a")
        self.page.keyboard.type(name)
        self.press("Enter")
        expect(line.locator(".step")).to_have_text(name)

    # The bench

    def part(self, title: str) -> None:
        """Unfold a part."""
        found = self.bench.locator("details", has=self.page.get_by_role("heading", name=title))
        if found.get_attribute("open") is None:
            self.click(found.locator("summary"))

    def more(self) -> None:
        """All fields of what a line does."""
        found = self.bench.get_by_role("button", name="more", exact=False)
        for one in found.all():
            if one.inner_text().strip().endswith(" more"):
                self.click(one)
                return

    def field(self, title: str, within: Locator | None = None) -> Locator:
        label = self.page.locator("label", has_text=re.compile(rf"^\s*{re.escape(title)}( needed)?\s*$"))
        return (within or self.bench).locator(".field").filter(has=label).first

    def write(self, title: str, value: Any, within: Locator | None = None) -> None:
        """Write a value into a field, in whatever it is written."""
        field = self.field(title, within)
        expect(field).to_be_visible()
        self.actions += 1
        if field.locator(".phrase").count():
            self.click(field.get_by_role("button", name="As expression"))
        box = field.locator("select, textarea, input").first
        several = field.get_by_role("button", name="Several values")
        if isinstance(value, dict) and several.count():
            self.click(several)
            expect(field.locator(".pairs")).to_be_visible()
        if field.locator(".pairs").count():
            self.pairs(field, value)
        elif box.evaluate("one => one.tagName") == "SELECT":
            self.pick(box, str(value))
        elif box.get_attribute("type") == "checkbox":
            self.check(box, bool(value))
        else:
            plain = isinstance(value, list) and all(not isinstance(one, dict | list) for one in value)
            lines = plain and box.evaluate("one => one.tagName") == "TEXTAREA"
            text = "\n".join(map(str, value)) if lines else value if isinstance(value, str) else json.dumps(value)
            self.put(box, text)

    def pairs(self, field: Locator, value: dict[str, Any]) -> None:
        there = field.locator(".pair")
        for _ in range(there.count()):
            self.hit(field.get_by_role("button", name="Remove").first)
        for name, one in value.items():
            self.actions += 1
            self.hit(field.get_by_role("button", name="Add a value"))
            row = there.last
            self.put(row.locator("input, textarea").nth(0), name)
            self.put(row.locator("input, textarea").nth(1), one if isinstance(one, str) else json.dumps(one))

    def shape(self, schema: dict[str, Any], within: Locator) -> None:
        """Rows of a shape."""
        for name, of in schema.get("properties", {}).items():
            self.actions += 2
            add = within.locator("form").last
            self.put(add.get_by_placeholder("name"), name)
            self.hit(add.get_by_role("button"))
            row = within.locator("tr").filter(has=self.page.get_by_label(f"Name of {name}", exact=True)).first
            expect(row).to_be_visible()
            if of.get("type", "") != "string":
                self.pick(row.get_by_label(f"Kind of {name}", exact=True), of.get("type", ""))
            needed = name in schema.get("required", [])
            if row.get_by_label(f"{name} is needed").is_checked() != needed:
                self.check(row.get_by_label(f"{name} is needed"), needed)
            rest = {key: one for key, one in of.items() if key not in ("type", "properties", "required", "items")}
            if rest:
                self.hit(row.get_by_role("button", name=f"More of {name}"))
                for key, one in rest.items():
                    titles = {
                        "default": "Default",
                        "enum": "Choices",
                        "minItems": "Items at least",
                        "minimum": "At least",
                        "maximum": "At most",
                    }
                    self.write(titles.get(key, words(key)), one, within)
                self.hit(row.get_by_role("button", name=f"More of {name}"))
            if of.get("items"):
                self.pick(within.get_by_label(f"Kind of each of {name}", exact=True), of["items"].get("type", ""))
            if of.get("properties"):
                label = self.page.get_by_label(f"Name of another part of {name}", exact=True)
                self.shape(of, within.locator(".shape").filter(has=label).last)


class Keys(Hands):
    """Hands that press keys alone, and get to where they want by Tab and the arrows."""

    def hit(self, what: Locator) -> None:
        self.reach(what)
        if what.get_attribute("data-path") is None:
            self.page.keyboard.press("Enter")

    def put(self, box: Locator, text: str) -> None:
        self.reach(box)
        self.page.keyboard.press("Control+a")
        if text:
            self.page.keyboard.insert_text(text)
        else:
            self.page.keyboard.press("Delete")
        self.page.keyboard.press("Tab")

    def pick(self, box: Locator, value: str) -> None:
        self.reach(box)
        steps = box.evaluate(
            "(one, value) => { const all = [...one.options].filter(option => !option.disabled || option.selected)\n"
            "return all.findIndex(option => option.value === value) - all.indexOf(one.selectedOptions[0]) }",
            value,
        )
        self.page.keyboard.press("Alt+ArrowDown")
        for _ in range(abs(steps)):
            self.page.keyboard.press("ArrowDown" if steps > 0 else "ArrowUp")
        self.page.keyboard.press("Enter")

    def check(self, box: Locator, on: bool) -> None:
        if box.is_checked() != on:
            self.reach(box)
            self.page.keyboard.press("Space")

    def take(self, option: Locator) -> None:
        for _ in range(20):
            if option.get_attribute("aria-selected") == "true":
                break
            self.page.keyboard.press("ArrowDown")
        self.press("Enter")

    def reach(self, what: Locator) -> None:
        """Put the focus there, as somebody does who has no mouse."""
        expect(what).to_be_visible()
        if what.get_attribute("data-path") is not None:
            self._reach_line(what)
            return
        if self._in_script():
            self.page.keyboard.press("Escape")
        self._tab_to(what)

    def _tab_to(self, what: Locator) -> None:
        for _ in range(100):
            away = what.evaluate(_STOPS)
            if away == 0:
                return
            for _ in range(abs(away)):
                self.page.keyboard.press("Tab" if away > 0 else "Shift+Tab")
        raise AssertionError(f"no key leads to {what}")

    def _in_script(self) -> bool:
        return bool(self.page.evaluate("document.activeElement?.dataset?.path !== undefined"))

    def _reach_line(self, line: Locator) -> None:
        if not self._in_script():
            self._tab_to(self.script.locator('[data-path][tabindex="0"]'))
        for _ in range(300):
            if line.get_attribute("aria-current") == "true" and line.evaluate("one => one === document.activeElement"):
                return
            down = line.evaluate(
                "one => { const at = document.activeElement; return at === one || "
                "!!(at.compareDocumentPosition(one) & Node.DOCUMENT_POSITION_FOLLOWING) }"
            )
            self.page.keyboard.press("ArrowDown" if down else "ArrowUp")
        raise AssertionError(f"no key leads to {line}")
