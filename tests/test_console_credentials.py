"""Credentials in the console, in a browser: an app is connected, needs reconnecting, and what depends on it goes on."""

import httpx
import pytest
from playwright.sync_api import Browser, Page, expect

from tests.browsing import browser, faults, sign_in  # noqa: F401
from tests.conftest import Processes, seed, until
from tests.office import app, behave, connect, settled

FLOW = """oak: 1
workflow: hello
steps:
  - step: hello
    do: http.request
    with: {{method: POST, url: "{office}/replies", json: {{to: a}}, credential: desk, repeat: keyed}}
result: ${{ hello.body.id }}
"""


@pytest.fixture(scope="module")
def house(new_database, tmp_path_factory):  # type: ignore[no-untyped-def]
    processes = Processes(tmp_path_factory.mktemp("house"), new_database())
    processes.start_all()
    processes.start_worker()
    processes.start("tick")
    seed(processes)
    yield processes
    processes.stop()


@pytest.fixture
def page(browser: Browser, house: Processes):  # type: ignore[no-untyped-def]  # noqa: F811
    page = browser.new_page(viewport={"width": 1280, "height": 800})
    sign_in(page, house)
    yield page
    page.close()


def allow(page: Page) -> None:
    """Say yes on the office's page."""
    page.get_by_role("button", name="Allow").click()


def test_an_app_is_connected_from_its_client_file(page: Page, house: Processes, tmp_path):  # type: ignore[no-untyped-def]
    file = tmp_path / "client.json"
    file.write_text(httpx.get(f"{house.standins}/office/oauth/client.json").text)
    page.goto(f"{house.url}/credentials")
    page.get_by_role("button", name="Add credential").click()
    page.get_by_label("Name").fill("desk")
    page.get_by_label("Kind").select_option("oauth")
    expect(page.get_by_text(f"{house.url}/connect/back")).to_be_visible()
    page.get_by_label("Client file", exact=True).set_input_files(file)
    expect(page.get_by_text("What is missing still is marked below")).to_be_visible()
    page.get_by_text("Scopes that this provider knows").click()
    for scope in ("bookings.read", "replies.write"):
        page.get_by_role("button", name=scope).click()
    page.get_by_role("textbox", name="Only sent to").fill(f"127.0.0.1:{house.outside}")
    page.get_by_role("textbox", name="Address to test it on").fill(f"{house.standins}/office/me")
    assert not faults(page)
    page.get_by_role("button", name="Store, then connect").click()
    expect(page.get_by_text("larkspur-relay wants to do this")).to_be_visible()
    allow(page)
    expect(page.get_by_text("desk is connected to office@larkspur.example")).to_be_visible()
    assert page.url == f"{house.url}/connect/back", "what was given is not left in the address"
    page.get_by_role("link", name="Go to the credentials").click()
    row = page.get_by_role("row").filter(has_text="desk")
    expect(row.get_by_role("button", name="✓ connected to office@larkspur.example")).to_be_visible()
    expect(page.get_by_text("bookings.read replies.write")).to_be_visible()
    row.get_by_role("button", name="Test", exact=True).click()
    expect(page.get_by_role("status").filter(has_text="It may: read bookings")).to_be_visible()
    assert not faults(page)


def test_what_needs_reconnecting_is_in_the_tray_and_runs_go_on(page: Page, house: Processes):
    client = house.client()
    client.put_credential("desk", **app(house))
    connect(client, "desk")
    client.save(FLOW.format(office=f"{house.standins}/office"), over=True)
    client.on("hello")
    settled(house)
    behave(house, withdraw=True)
    run = client.start("hello")
    until(lambda: any(one.waiting for one in client.broken_credentials()))
    page.goto(f"{house.url}/runs/{run.id}")
    expect(page.get_by_text("it waits for the credential desk").first).to_be_visible()
    page.goto(f"{house.url}/tray")
    told = page.get_by_role("article", name="desk needs reconnecting")
    expect(told).to_contain_text("1 run waits for it, and will go on")
    assert not faults(page)
    page.get_by_role("button", name="Dark").click()
    page.reload()  # so that no colour is on its way to another
    expect(told).to_be_visible()
    assert not faults(page)
    told.get_by_role("button", name="Connect again").click()
    allow(page)
    expect(page.get_by_text("1 run that waited for it goes on")).to_be_visible()
    assert run.result()
    page.goto(f"{house.url}/tray")
    expect(page.get_by_text("Nothing waits for a person")).to_be_visible()


def test_whoever_says_no_or_comes_from_nowhere_is_told(page: Page, house: Processes):
    client = house.client()
    client.put_credential("desk", **{**app(house), "client_id": "another-app"})
    client.put_credential("desk", **app(house))
    page.goto(f"{house.url}/credentials")
    page.get_by_role("row").filter(has_text="desk").get_by_role("button", name="Connect", exact=True).click()
    page.get_by_role("button", name="Refuse").click()
    expect(page.get_by_text("there was no consent")).to_be_visible()
    page.goto(f"{house.url}/connect/back?state=made-up-by-somebody&code=x")
    expect(page.get_by_text("nothing was begun with this")).to_be_visible()
    page.goto(f"{house.url}/connect/back")
    expect(page.get_by_text("begin on the page Credentials")).to_be_visible()
    assert not faults(page)


def test_one_in_use_is_removed_when_that_is_meant(page: Page, house: Processes):
    client = house.client()
    client.put_credential("desk", **app(house))
    client.save(FLOW.format(office=f"{house.standins}/office"), over=True)
    client.on("hello")
    page.goto(f"{house.url}/credentials")
    row = page.get_by_role("row").filter(has_text="desk")
    row.get_by_role("button", name="Remove").click()
    dialog = page.get_by_role("dialog")
    expect(dialog).to_contain_text("hello is on and would wait for it")
    dialog.get_by_role("button", name="Not now").click()
    expect(dialog).to_have_count(0)
    expect(row).to_be_visible()
    row.get_by_role("button", name="Remove").click()
    dialog.get_by_role("button", name="Forget it").click()
    expect(row).to_have_count(0)


@pytest.mark.parametrize("width", [1280, 400])
def test_several_secrets_are_given_by_name_and_one_is_changed(page: Page, house: Processes, width: int):
    page.set_viewport_size({"width": width, "height": 800})
    page.goto(f"{house.url}/credentials")
    page.get_by_role("button", name="Add credential").click()
    name = f"two-{width}"
    page.get_by_label("Name").fill(name)
    page.get_by_label("Kind").select_option("fields")
    secrets = page.locator(".field").filter(has=page.get_by_text("Secrets", exact=False)).first
    for number, (word, value) in enumerate((("app", "12345678"), ("token", "second-secret")), 1):
        secrets.get_by_role("button", name="Add a value").click()
        secrets.get_by_label(f"Name {number}").fill(word)
        secrets.get_by_label(f"Value of {word}").fill(value)
    headers = page.locator(".field").filter(has=page.get_by_text("Headers", exact=True)).first
    headers.get_by_role("button", name="Add a value").click()
    headers.get_by_label("Name 1").fill("X-Key")
    headers.get_by_label("Value of X-Key").fill("{app}:{token}")
    page.get_by_role("textbox", name="Only sent to").fill("127.0.0.1")
    assert not faults(page)
    assert page.evaluate("document.documentElement.scrollWidth <= window.innerWidth")
    page.get_by_role("button", name="Store", exact=True).click()
    expect(page.get_by_role("row").filter(has_text=name)).to_be_visible()
    [stored] = [one for one in house.client().credentials() if one.name == name]
    assert stored.secrets == ["secrets.app", "secrets.token"]
    assert "second-secret" not in page.content()
    page.get_by_role("row").filter(has_text=name).get_by_role("button", name="Change").click()
    secrets.get_by_label("Value of token").fill("another-secret")
    page.get_by_role("button", name="Store", exact=True).click()
    expect(page.get_by_role("button", name="Add credential")).to_be_visible()
    [stored] = [one for one in house.client().credentials() if one.name == name]
    assert stored.secrets == ["secrets.app", "secrets.token"]
