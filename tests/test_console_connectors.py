"""Actions made of a description, in the console: read, chosen, tried, compared, removed; and what is wrong with one."""

import json
import re

import pytest
from playwright.sync_api import Page, expect

from oak_relay.client import Client
from tests.browsing import browser, faults, page
from tests.conftest import Processes
from tests.descriptions import as_json, classic

__all__ = ["browser", "page"]


def test_actions_are_made_tried_compared_and_removed(page: Page, oak: Processes, client: Client):
    page.goto(f"{oak.url}/connectors")
    page.get_by_role("link", name="Actions from a description").click()
    page.get_by_label("Address of the document").fill(f"{oak.standins}/office/api/openapi.json")
    page.get_by_role("button", name="Read it").click()
    expect(page.get_by_role("heading", name="Larkspur Booking Office 2.1.0")).to_be_visible()
    page.get_by_label("Find operations").fill("booking ask")
    expect(page.get_by_label("Operations").get_by_role("listitem")).to_have_count(1)
    page.get_by_label("Take make_booking").check()
    page.get_by_label("Find operations").fill("get list_")
    page.get_by_role("button", name="Take all 2").click()
    page.get_by_label("Find operations").fill("")
    expect(page.get_by_text("3 of 8 taken")).to_be_visible()
    page.get_by_role("button", name="make_booking").click()
    becomes = page.get_by_label("What it becomes")
    expect(becomes).to_contain_text(
        "It wants a credential: the header X-API-Key, or an app that was consented to (OAuth 2)."
    )
    expect(becomes).to_contain_text("body.night")
    page.get_by_label("Name, before the dot").fill("No Name")
    expect(page.get_by_role("button", name="Make 3 actions")).to_be_disabled()
    page.get_by_label("Name, before the dot").fill("desk_office")
    assert faults(page) == []
    page.get_by_role("button", name="Make 3 actions").click()
    expect(page.get_by_role("heading", name="Larkspur Booking Office desk_office")).to_be_visible()
    page.get_by_role("button", name="desk_office.list_huts").click()
    page.get_by_role("button", name="Try it").click()
    form = page.get_by_role("form", name="Try desk_office.list_huts")
    form.get_by_role("button", name="Try it").click()
    expect(form).to_contain_text("invalid")
    form.get_by_label("Credential").select_option("office")
    form.get_by_role("button", name="Try it").click()
    expect(form).to_contain_text("✓ works")
    expect(form).to_contain_text("Saint Odo's Rest")
    form.get_by_text("Request and reply").click()
    expect(form.locator("pre").first).to_contain_text("/office/api/huts")
    assert faults(page) == []
    page.get_by_role("button", name="desk_office.make_booking").click()
    page.get_by_role("button", name="Try it").click()
    form = page.get_by_role("form", name="Try desk_office.make_booking")
    for field, value in (("Hut", "glasswater"), ("Guest", "ada@guests.example"), ("Night", "2031-07-14")):
        form.get_by_label(re.compile(f"^{field}( needed)?$")).fill(value)
    form.get_by_label("Credential").select_option("office")
    form.get_by_role("button", name="Try it").click()
    page.get_by_role("button", name="Carry it out").click()
    expect(form).to_contain_text("asked")
    page.get_by_role("button", name="Is there a newer one?").click()
    expect(page.get_by_text("Nothing that is used here is another")).to_be_visible()
    expect(page.get_by_text("It offers 5 operations besides.")).to_be_visible()
    page.get_by_role("link", name="Choose operations").click()
    page.get_by_role("button", name="Read it").click()
    expect(page.get_by_text("3 of 8 taken")).to_be_visible()
    page.get_by_label("Take show_booking").check()
    page.get_by_role("button", name="Make the new version").click()
    expect(page.get_by_text("Version 2, of")).to_be_visible()
    page.get_by_role("button", name="Remove", exact=True).click()
    page.get_by_role("button", name="Remove it").click()
    expect(page.get_by_role("heading", name="Connectors and actions")).to_be_visible()
    assert "desk_office" not in [one.name for one in client.every(client.connectors)]


@pytest.mark.long
def test_a_large_description_of_a_file_and_one_that_is_wrong(page: Page, oak: Processes, client: Client):
    page.goto(f"{oak.url}/descriptions")
    page.get_by_role("button", name="Paste it").click()
    page.get_by_label("The document").fill("openapi: 3.1.0\npaths: [")
    page.get_by_role("button", name="Read it").click()
    expect(page.get_by_text("the document is not YAML")).to_be_visible()
    assert faults(page) == []
    page.get_by_role("button", name="An address").click()
    page.locator("input[type=file]").set_input_files(
        {"name": "registry.json", "mimeType": "application/json", "buffer": as_json(classic())}
    )
    expect(page.get_by_role("heading", name="Huts Registry")).to_be_visible()
    expect(page.get_by_text("0 of 294 taken")).to_be_visible()
    page.get_by_role("button", name="bell_controller_create").click()
    expect(page.get_by_label("What it becomes")).to_contain_text("body.beside")
    page.get_by_role("button", name="Take all 294").click()
    page.get_by_label("Name, before the dot").fill("registry")
    page.get_by_role("button", name="Make 294 actions").click()
    expect(page.get_by_role("heading", name="Huts Registry registry")).to_be_visible(timeout=30_000)
    page.get_by_label("Find an action").fill("bell_controller")
    page.get_by_role("button", name="registry.bell_controller_create").click()
    page.get_by_role("button", name="Try it").click()  # of a schema that holds itself
    expect(page.get_by_role("form", name="Try registry.bell_controller_create").get_by_label("Name needed").first).to_be_visible()  # fmt: skip
    page.set_viewport_size({"width": 400, "height": 800})
    assert page.evaluate("document.documentElement.scrollWidth") <= 400
    assert json.dumps(client.connector("registry").operations[0].action.input)
    client.remove_connector("registry")
