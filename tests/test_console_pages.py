"""Pages of the console: overview, comparison, tables, conversations, the keys; and what is told to many tabs at once."""

import re
import signal
from collections.abc import Iterator
from pathlib import Path

import httpx
import pytest
from playwright.sync_api import Browser, BrowserContext, Page, expect

from oak_relay.client import Client
from tests.browsing import browser, faults, sign_in
from tests.conftest import Processes, until
from tests.dav import PASSWORD, USER, folder

__all__ = ["browser"]
LARDER = """oak: 1
workflow: {name}
input: {{type: object, properties: {{hut: {{type: string}}, crates: {{type: integer}}}}}}
steps:
  - step: count
    set: {{crates: "${{ input.crates * 2 }}"}}
  - step: check
    when: ${{ input.crates > 9 }}
    fail: the larder of ${{ input.hut }} holds nine
result: ${{ count.crates }}
"""
ROWS = [{"hut": "Upper Tarn", "crates": 4}, {"hut": "Glasswater", "crates": 9}]
COLUMNS = {"hut": "text", "crates": "number", "open": "boolean"}


@pytest.fixture
def context(browser: Browser, oak: Processes) -> Iterator[BrowserContext]:
    """A browser of somebody who is signed in; nothing breaks in its pages."""
    made = browser.new_context(viewport={"width": 1280, "height": 800})
    broken: list[str] = []
    made.on("weberror", lambda error: broken.append(str(error.error)))
    page = made.new_page()
    sign_in(page, oak)
    page.close()
    yield made
    made.close()
    assert not broken


@pytest.fixture
def page(context: BrowserContext) -> Page:
    return context.new_page()


def larder(client: Client, name: str) -> str:
    client.save(LARDER.format(name=name), over=True)
    client.on(name)
    return name


def test_the_overview_says_what_fails_and_leads_there(page: Page, oak: Processes, client: Client):
    name = larder(client, "larder-fails")
    client.start(name, {"hut": "Marmot Saddle", "crates": 3}).wait()
    runs = [client.start(name, {"hut": "Marmot Saddle", "crates": 12}).wait() for _ in range(2)]
    page.goto(f"{oak.url}/overview")
    row = page.get_by_role("row").filter(has_text=name)
    expect(row).to_contain_text("the larder of Marmot Saddle holds nine", timeout=20_000)  # counted every few seconds
    expect(page.get_by_role("img", name="Runs by the time they began")).to_be_visible()
    row.get_by_role("link", name="failed").click()
    expect(page).to_have_url(f"{oak.url}/runs/{runs[1].id}")
    page.go_back()
    page.get_by_role("row").filter(has_text=name).get_by_role("link", name="2", exact=True).click()
    expect(page.locator("tbody tr")).to_have_count(2)


def test_two_runs_are_compared_step_by_step(page: Page, oak: Processes, client: Client):
    name = larder(client, "larder-compared")
    client.start(name, {"hut": "Glasswater", "crates": 3}).wait()
    client.start(name, {"hut": "Glasswater", "crates": 12}).wait()
    page.goto(f"{oak.url}/runs?workflow={name}")
    for at in (0, 1):
        page.locator("tbody input[type=checkbox]").nth(at).check()
    page.get_by_role("link", name="Compare", exact=True).click()
    rows = page.locator("tbody > tr")
    expect(rows).to_have_count(2)
    expect(rows.first).to_contain_text("gave other things")
    expect(rows.nth(1)).to_contain_text("the larder of Glasswater holds nine")
    rows.first.get_by_role("button").click()
    expect(page.get_by_text("crates", exact=True)).to_be_visible()
    expect(page.get_by_label("in the first run")).to_have_text("24")
    expect(page.get_by_label("in the second run")).to_have_text("6")
    assert faults(page) == []
    page.goto(f"{oak.url}/compare")
    expect(page.get_by_text("Choose two runs")).to_be_visible()


def test_rows_are_written_taken_back_and_start_a_workflow(page: Page, oak: Processes, client: Client):
    name = larder(client, "larder-by-row")
    client.create_table("larders", COLUMNS)
    client.add_rows("larders", ROWS)
    page.goto(f"{oak.url}/tables")
    page.get_by_role("link", name="larders").click()
    expect(page.locator("tbody tr")).to_have_count(2)
    row = page.locator("tbody tr").filter(has_text="Upper Tarn")
    row.get_by_role("button", name="crates: 4").click()
    page.get_by_role("textbox", name="crates").fill("many")
    page.keyboard.press("Enter")
    expect(page.get_by_role("alert")).to_have_text("a number is needed")
    page.get_by_role("textbox", name="crates").fill("7")
    page.keyboard.press("Enter")
    expect(row.get_by_role("button", name="crates: 7")).to_be_focused()
    until(lambda: {"hut": "Upper Tarn", "crates": 7} in [dict(one.row) for one in client.rows("larders")])
    page.get_by_role("button", name="Add a row").click()
    fresh = page.locator("tbody tr").first
    fresh.get_by_role("button", name="hut").click()
    page.get_by_role("textbox", name="hut").fill("Thistle Col")
    page.keyboard.press("Enter")
    fresh.get_by_role("button", name="Add", exact=True).click()
    expect(page.locator("tbody tr")).to_have_count(3)
    gone = page.locator("tbody tr").filter(has_text="Thistle Col")
    gone.get_by_role("button", name="Remove this row").click()
    expect(gone).to_have_count(0)
    page.get_by_role("button", name="Undo").click()
    expect(gone).to_have_count(1)
    gone.get_by_role("button", name="Remove this row").click()
    until(lambda: len(client.rows("larders")) == 2, 20)
    page.get_by_label("Find rows").fill("glass")
    page.keyboard.press("Enter")
    expect(page.locator("tbody tr")).to_have_count(1)
    assert faults(page) == []
    page.get_by_role("button", name="Start…").click()
    dialog = page.get_by_role("dialog")
    dialog.get_by_label("Workflow").select_option(name)
    expect(dialog.get_by_role("textbox").first).to_have_value("Glasswater")
    assert faults(page) == []
    dialog.get_by_role("button", name="Start", exact=True).click()
    expect(page.get_by_role("heading", name=name)).to_be_visible()
    assert client.runs(workflow=name)[0].state in ("queued", "running", "succeeded")
    page.goto(f"{oak.url}/tables/larders")
    page.get_by_role("button", name="Remove…").click()
    expect(page.locator(".modal.show")).to_have_css("opacity", "1")
    assert faults(page) == []
    page.get_by_role("button", name="Remove it").click()
    expect(page).to_have_url(f"{oak.url}/tables")
    assert "larders" not in [table.name for table in client.tables()]


def test_rows_are_filtered_and_ordered(page: Page, oak: Processes, client: Client):
    client.create_table("crates-kept", {"shed": "text", "crates": "number"})
    client.add_rows("crates-kept", [{"shed": f"shed {n}", "crates": n or None} for n in range(6)])
    page.goto(f"{oak.url}/tables/crates-kept")
    page.get_by_role("button", name="Rows where…").click()
    page.get_by_label("Column", exact=True).select_option("crates")
    page.get_by_label("How it stands").select_option("at_least")
    page.get_by_role("textbox", name="Value").fill("two")
    page.get_by_role("button", name="Show these").click()
    expect(page.get_by_role("alert")).to_have_text("two is no number")
    page.get_by_role("textbox", name="Value").fill("2")
    page.get_by_role("button", name="Show these").click()
    sheds = page.get_by_role("button", name=re.compile("^shed: "))
    expect(sheds).to_have_text(["shed 5", "shed 4", "shed 3", "shed 2"])
    page.get_by_role("columnheader", name="crates").get_by_role("button").click()
    expect(sheds).to_have_text(["shed 2", "shed 3", "shed 4", "shed 5"])
    page.get_by_role("columnheader", name="crates").get_by_role("button").click()
    expect(sheds).to_have_text(["shed 5", "shed 4", "shed 3", "shed 2"])
    expect(page.get_by_role("columnheader", name="crates")).to_have_attribute("aria-sort", "descending")
    page.reload()  # the address tells it all
    expect(sheds).to_have_count(4)
    page.get_by_role("button", name="Without: crates at least").click()
    expect(sheds).to_have_count(6)
    page.get_by_role("button", name="Rows where…").click()
    page.get_by_label("How it stands").select_option("in")
    page.get_by_role("textbox", name="Value").fill("shed 1, shed 9")
    page.get_by_role("button", name="Show these").click()
    expect(sheds).to_have_text(["shed 1"])


def test_a_cell_that_somebody_else_changed_is_not_written_over(page: Page, oak: Processes, client: Client):
    client.create_table("beds", COLUMNS)
    client.add_rows("beds", ROWS[:1])
    page.goto(f"{oak.url}/tables/beds")
    cell = page.get_by_role("button", name="crates: 4")
    expect(cell).to_be_visible()
    [row] = client.rows("beds")
    client.update_row("beds", row.id, {"crates": 5})
    cell.click()
    page.get_by_role("textbox", name="crates").fill("6")
    page.keyboard.press("Enter")
    expect(page.get_by_role("alert")).to_contain_text("changed")
    assert client.rows("beds")[0].row["crates"] == 5


def test_a_table_is_made_from_a_file_and_from_columns(page: Page, oak: Processes, client: Client):
    page.goto(f"{oak.url}/tables")
    page.get_by_role("button", name="From a file").click()
    page.locator("input[type=file]").set_input_files(
        {"name": "Paths of May.csv", "mimeType": "text/csv", "buffer": b"path,length\nridge,12\nlake,7.5\n"}
    )
    expect(page.get_by_role("status").filter(has_text="2 rows of Paths of May.csv")).to_contain_text("length (number)")
    page.get_by_role("button", name="Take them").click()
    expect(page).to_have_url(f"{oak.url}/tables/paths_of_may")
    expect(page.locator("tbody tr")).to_have_count(2)
    page.goto(f"{oak.url}/tables")
    page.get_by_role("button", name="New table").click()
    page.get_by_label("Name", exact=True).fill("stoves")
    page.get_by_label("Name of column 1").fill("hut")
    page.get_by_role("button", name="Make it").click()
    expect(page.get_by_text("No rows yet")).to_be_visible()
    page.goto(f"{oak.url}/tables/nowhere")
    expect(page.get_by_role("alert")).to_contain_text("no table nowhere")


def test_a_conversation_is_read_and_forgotten(page: Page, oak: Processes, client: Client):
    client.save(
        "oak: 1\nworkflow: talks\ninput: {type: object}\nsteps:\n  - step: a\n    do: agent\n    with:\n      model: careful\n"
        "      brief: You answer guests.\n      prompt: ${ input.say }\n"
        '      memory: {conversation: "talks ${ input.who }", turns: 10}\nresult: ${ a.text }\n',
        over=True,
    )
    client.start("talks", {"say": "Is the path to Glasswater open?", "who": "<b>jo</b>/1"}).wait()
    key = "talks <b>jo</b>/1"
    page.goto(f"{oak.url}/conversations")
    page.get_by_role("link", name=key).click()
    expect(page.get_by_role("heading", name=key)).to_be_visible()
    said = page.get_by_role("list", name="What was said").get_by_role("listitem")
    expect(said.first).to_contain_text("Is the path to Glasswater open?")
    said.nth(1).get_by_role("link", name="its run").click()
    expect(page).to_have_url(re.compile("/runs/"))
    page.go_back()
    page.get_by_role("button", name="Forget…").click()
    page.get_by_role("button", name="Forget it").click()
    expect(page).to_have_url(f"{oak.url}/conversations")
    assert key not in [one.key for one in client.conversations(limit=500)]


def test_keys_lead_to_pages_and_never_fire_while_something_is_written(page: Page, oak: Processes):
    page.goto(f"{oak.url}/runs")
    expect(page.get_by_role("heading", name="Runs")).to_be_visible()
    page.keyboard.press("?")
    dialog = page.get_by_role("dialog")
    expect(dialog).to_contain_text("search")
    assert faults(page) == []
    page.keyboard.press("g")
    page.keyboard.press("t")
    page.keyboard.press("Escape")
    expect(dialog).to_have_count(0)
    expect(page).to_have_url(f"{oak.url}/runs")
    page.get_by_label("Words in it").focus()
    page.keyboard.type("gt?/")
    expect(page.get_by_role("dialog")).to_have_count(0)
    page.get_by_role("heading", name="Runs").click()
    page.keyboard.press("Control+g")
    page.keyboard.press("t")
    page.keyboard.press("g")
    page.keyboard.press("b")
    expect(page.get_by_role("heading", name="Tables")).to_be_visible()
    expect(page.locator("#content")).to_be_focused()
    assert page.title() == "Tables · Oak Relay"


def test_the_list_of_runs_holds_still_under_the_hand(page: Page, oak: Processes, client: Client):
    name = larder(client, "larder-still")
    first = client.start(name, {"hut": "Long Shadow", "crates": 1}).wait()
    page.goto(f"{oak.url}/runs?workflow={name}")
    row = page.locator("tbody tr").first
    row.hover()
    second = client.start(name, {"hut": "Long Shadow", "crates": 2}).wait()
    show = page.get_by_role("button", name="1 newer run: show")
    expect(show).to_be_visible()
    expect(row.get_by_role("link")).to_have_attribute("href", f"/runs/{first.id}")
    show.hover()
    page.wait_for_timeout(1500)  # longer than a list waits that nobody is at: the word does not go from under the hand
    expect(show).to_be_visible()
    show.click()
    expect(row.get_by_role("link")).to_have_attribute("href", f"/runs/{second.id}")
    third = client.start(name, {"hut": "Long Shadow", "crates": 2}).wait()  # the hand is elsewhere now
    expect(row.get_by_role("link")).to_have_attribute("href", f"/runs/{third.id}")


# Many tabs


def test_seven_tabs_share_a_stream_and_one_that_leads_may_leave_or_freeze(
    context: BrowserContext, oak: Processes, client: Client
):
    name = larder(client, "larder-shared")
    client.start(name, {"hut": "Upper Tarn", "crates": 1}).wait()
    tabs = [context.new_page() for _ in range(7)]
    asked: list[Page] = []
    for tab in tabs:
        tab.on("request", lambda r: asked.append(r.frame.page) if "/stream" in r.url else None)
        tab.goto(f"{oak.url}/runs?workflow={name}")
        expect(tab.locator("tbody tr")).to_have_count(1)
    assert len(asked) < 4  # one, and once more where the machine stood still for a while

    def all_show(some: list[Page], many: int, seconds: float = 10) -> None:
        for tab in some:
            tab.bring_to_front()
            expect(tab.locator("tbody tr")).to_have_count(many, timeout=seconds * 1000)

    client.start(name, {"hut": "Upper Tarn", "crates": 2}).wait()
    all_show(tabs, 2)
    tabs[0].close()  # it had the stream
    client.start(name, {"hut": "Upper Tarn", "crates": 3}).wait()
    all_show(tabs[1:], 3)
    assert len(asked) < 6
    leader = asked[-1]
    rest = [tab for tab in tabs[1:] if tab is not leader]
    context.new_cdp_session(leader).send("Page.setWebLifecycleState", {"state": "frozen"})
    client.start(name, {"hut": "Upper Tarn", "crates": 4}).wait()
    all_show(rest, 4, 30)
    context.new_cdp_session(leader).send("Page.setWebLifecycleState", {"state": "active"})
    client.start(name, {"hut": "Upper Tarn", "crates": 5}).wait()
    all_show([*rest, leader], 5, 30)


def test_a_service_that_is_away_is_told_and_its_coming_back_noticed(browser: Browser, new_database, tmp_path):
    house = Processes(tmp_path, new_database())
    serving = house.start("serve")
    until(lambda: httpx.get(f"{house.url}/health/ready").is_success, 60)
    page = browser.new_context().new_page()
    sign_in(page, house)
    page.goto(f"{house.url}/runs")
    expect(page.get_by_text("No runs yet")).to_be_visible()
    page.get_by_role("link", name="Tables").click()
    expect(page.get_by_text("None yet")).to_be_visible()
    house.kill(serving, signal.SIGKILL)
    expect(page.get_by_text("The service is not heard of")).to_be_visible()
    page.get_by_role("link", name="Runs").click()
    page.get_by_label("State").select_option("failed")
    expect(page.get_by_role("alert")).to_contain_text("The service does not answer", timeout=4_000)
    expect(page.get_by_role("button", name="Try again")).to_be_visible()
    page.get_by_role("link", name="Connections").click()
    expect(page.get_by_role("alert")).to_contain_text("This page could not be loaded")
    house.start("serve")
    expect(page.get_by_role("heading", name="Credentials")).to_be_visible(timeout=30_000)
    expect(page.get_by_text("The service is not heard of")).to_have_count(0)
    page.context.close()
    house.stop()


# What keeps nobody out

PLACES = ["/workflows", "/runs", "/tray", "/conversations", "/tables", "/tables/kept", "/files", "/credentials", "/models", "/connectors", "/connectors?action=http.request", "/overview",
          "/usage", "/schedules", "/access", "/compare", "/nowhere-at-all"]  # fmt: skip


@pytest.fixture
def furnished(oak: Processes, client: Client) -> str:
    """Something on every page, with long names; the path of a run."""
    if "kept" not in [table.name for table in client.tables()]:
        client.create_table("kept", COLUMNS)
        client.add_rows("kept", [*ROWS, {"hut": "The hut behind the seven larches by the lake " * 6, "crates": 1e9}])
    name = larder(client, "larder-with-a-name-that-is-as-long-as-names-of-workflows-may-be")
    run = client.start(name, {"hut": "x" * 300, "crates": 12}).wait()
    return f"/runs/{run.id}"


@pytest.mark.parametrize("theme", ["light", pytest.param("dark", marks=pytest.mark.long)])
def test_nothing_is_found_that_keeps_anybody_out(page: Page, oak: Processes, furnished: str, theme: str):
    page.goto(f"{oak.url}/runs")
    if theme == "dark":
        page.get_by_role("button", name="Dark").click()
        page.reload()
    for place in [*PLACES, furnished]:
        page.goto(f"{oak.url}{place}")
        expect(page.locator("main h1, main p").first).to_be_visible()
        expect(page.locator(".skeleton")).to_have_count(0)
        assert faults(page, theme == "dark") == [], place


@pytest.mark.parametrize("width", [400, pytest.param(640, marks=pytest.mark.long)])
def test_pages_fit_a_narrow_screen_and_twice_the_size(page: Page, oak: Processes, furnished: str, width: int):
    page.set_viewport_size({"width": width, "height": 800})
    for place in [*PLACES, furnished]:
        page.goto(f"{oak.url}{place}")
        expect(page.locator("main h1, main p").first).to_be_visible()
        expect(page.locator(".skeleton")).to_have_count(0)
        assert page.evaluate("document.documentElement.scrollWidth") <= width, place


def test_what_is_built_comes_compressed_as_the_browser_takes_it(oak: Processes):
    page = httpx.get(oak.url, headers={"Accept-Encoding": "identity"}).text
    script = re.search(r'src="(/assets/index-[^"]+\.js)"', page)[1]  # type: ignore[index]
    plain = httpx.get(f"{oak.url}{script}", headers={"Accept-Encoding": "identity"})
    assert "content-encoding" not in plain.headers and plain.headers["vary"] == "Accept-Encoding"
    for accepts, coding in (
        ("br, gzip", "br"),
        ("gzip;q=1, br;q=0", "gzip"),
        ("*", "br"),
        ("deflate", None),
        ("br;q=nonsense", None),
    ):
        with httpx.stream("GET", f"{oak.url}{script}", headers={"Accept-Encoding": accepts}) as answer:
            assert answer.headers.get("content-encoding") == coding, accepts
            assert answer.headers["content-type"] == plain.headers["content-type"]
            sent = sum(len(part) for part in answer.iter_raw())
        assert (sent < len(plain.content) / 2) == (coding is not None)
        if coding == "gzip":
            assert httpx.get(f"{oak.url}{script}", headers={"Accept-Encoding": accepts}).content == plain.content


def test_what_is_loaded_first_is_small(context: BrowserContext, oak: Processes):
    page = context.new_page()
    sizes: dict[str, int] = {}
    page.on("response", lambda r: sizes.update({r.url: int(r.headers.get("content-length", 0))}))
    page.goto(f"{oak.url}/workflows")
    expect(page.get_by_role("heading", name="Workflows")).to_be_visible()
    expect(page.locator("tbody tr").first).to_be_visible()
    code = sum(size for url, size in sizes.items() if url.endswith((".js", ".css")))
    fonts = sum(size for url, size in sizes.items() if ".woff" in url)
    print(f"first load: {code / 1000:.0f} kB of scripts and styles, {fonts / 1000:.0f} kB of fonts")
    assert code <= 95_000
    assert fonts <= 70_000
    assert not any("editorLook" in url or "Chart" in url for url in sizes)


def test_a_table_is_linked_and_its_rows_written_where_they_live(
    page: Page, oak: Processes, client: Client, tmp_path: Path
):
    place = tmp_path / "drawer"
    place.mkdir()
    (place / "bunks.csv").write_text("hut,free\nGlasswater,4\nUpper Tarn,9\n")
    with folder(place) as url:
        client.put_credential("bunk-files", kind="basic", user=USER, secret=PASSWORD, hosts=[url])
        page.goto(f"{oak.url}/tables")
        page.get_by_role("button", name="Link a table").click()
        form = page.get_by_role("form", name="Link a table")
        form.get_by_label("Name of the table here").fill("bunks-there")
        form.get_by_label("Its rows are").select_option("file")
        form.get_by_label("Address of the file").fill(f"{url}/none.csv")
        form.get_by_role("button", name="Link it").click()
        expect(form).to_contain_text("the rows cannot be read")
        form.get_by_label("Address of the file").fill(f"{url}/bunks.csv")
        form.get_by_label("Credential").select_option("bunk-files")
        form.get_by_label("Columns that tell one row").fill("hut")
        assert faults(page) == []
        form.get_by_role("button", name="Link it").click()
        expect(page.get_by_text(f"linked to {url}/bunks.csv")).to_be_visible()
        page.get_by_role("button", name="free: 4").click()
        page.get_by_role("textbox", name="free").fill("5")
        page.keyboard.press("Enter")
        expect(page.get_by_role("button", name="free: 5")).to_be_visible()
        until(lambda: "Glasswater,5" in (place / "bunks.csv").read_text())
        page.get_by_role("button", name="Add a row").click()
        page.get_by_role("button", name="hut: nothing").click()
        page.get_by_role("textbox", name="hut").fill("Thistle Col")
        page.keyboard.press("Enter")
        page.get_by_role("button", name="Add", exact=True).click()
        until(lambda: (place / "bunks.csv").read_text() == "hut,free\nGlasswater,5\nUpper Tarn,9\nThistle Col,\n")
        assert faults(page) == []
        page.goto(f"{oak.url}/tables")
        expect(page.get_by_role("row", name="bunks-there")).to_contain_text("linked")
    client.drop_table("bunks-there")
    client.remove_credential("bunk-files", anyway=True)
