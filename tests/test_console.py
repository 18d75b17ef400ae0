"""The console in headless Chromium, against the real service."""

import json
import re
from collections.abc import Iterator

import httpx
import pytest
from playwright.sync_api import Browser, Page, expect

from oak_relay.client import Client
from tests.browsing import browser, faults, sign_in
from tests.conftest import MODEL_KEY, Processes, seed_agents, until

__all__ = ["browser"]


@pytest.fixture
def page(browser: Browser, oak: Processes) -> Iterator[Page]:
    """A signed-in page; every request it makes goes to our own host, and nothing breaks in it."""
    context = browser.new_context(viewport={"width": 1280, "height": 800})
    page = context.new_page()
    elsewhere, broken = [], []
    page.on("request", lambda r: elsewhere.append(r.url) if not r.url.startswith((oak.url, "data:")) else None)
    page.on("pageerror", lambda e: broken.append(str(e)))
    sign_in(page, oak)
    yield page
    context.close()
    assert not elsewhere
    assert not broken


def guest_writes(oak: Processes, message: str, email: str) -> str:
    answer = httpx.post(
        f"{oak.standins}/office/requests", json={"message": message, "guest": {"email": email}}, timeout=30
    )
    return str(answer.json()["run"])


def test_a_wrong_password_is_refused_in_the_page(browser, oak):
    page = browser.new_page()
    page.goto(f"{oak.url}/runs")
    page.get_by_label("Password").fill("not this one")
    page.get_by_role("button", name="Sign in").click()
    expect(page.get_by_role("alert")).to_contain_text("wrong")
    page.close()


def test_the_run_that_failed_and_was_retried_says_why_and_how_long(page: Page, oak: Processes, client: Client):
    oak.fault(service="office", status=503, path="replies")
    run_id = guest_writes(oak, "Is breakfast included?", "jo@guests.example")
    client._bound(client.run(run_id).run.model_dump()).wait()
    page.get_by_role("link", name="Runs").click()
    page.locator("tr", has_text="jo@guests.example").first.get_by_role("link").click()
    expect(page.get_by_role("heading", name="booking-triage")).to_be_visible()
    expect(page.get_by_text("2 attempts")).to_be_visible()  # the step that was retried is chosen by itself
    record = page.get_by_label("Record of the chosen step")
    expect(record).to_contain_text("answered 503")
    expect(record).to_contain_text(re.compile(r"waited \d+ ms"))
    record.get_by_role("button", name="attempt 1").click()
    expect(record.get_by_role("alert")).to_contain_text("try again later")
    expect(record).to_contain_text("'x-api-key: '\"$OFFICE\"")  # as curl, without its secret
    page.get_by_role("button", name="Ask careful for draft").click()
    expect(record).to_contain_text("You answer guests of Larkspur Huts")
    expect(record).to_contain_text("- Quiet hours are from ten")
    assert "step=handled.draft" in page.url  # a link shows the same thing
    page.reload()
    expect(record).to_contain_text("You answer guests of Larkspur Huts")


def test_a_prompt_is_edited_made_live_and_the_next_run_appears_by_itself(
    page: Page, browser: Browser, oak: Processes, client: Client
):
    runs = page.context.new_page()
    runs.goto(f"{oak.url}/runs?subject=kim@guests.example")
    expect(runs.get_by_text("No run fits")).to_be_visible()
    page.goto(f"{oak.url}/workflows/booking-triage")
    page.get_by_label("Script").get_by_role("button", name="Ask careful for draft").click()
    brief = page.get_by_label("Bench").get_by_label("Brief", exact=True)
    brief.press("Control+End")
    page.keyboard.type(" Be brief.")
    expect(page.get_by_role("button", name="Undo")).to_be_enabled()
    page.get_by_role("button", name="Save").click()
    expect(page.get_by_role("status").filter(has_text="Saved as version")).to_be_visible()
    page.get_by_role("button", name="Switch on").click()
    price = page.get_by_role("dialog", name="Before it is on")
    expect(price).to_contain_text("costs")
    assert faults(page) == []
    price.get_by_role("button", name="Switch on").click()
    expect(page.get_by_role("status").filter(has_text="On, with version")).to_be_visible()
    run_id = guest_writes(oak, "Is breakfast included?", "kim@guests.example")
    expect(runs.locator("tr", has_text="kim@guests.example")).to_contain_text("succeeded")  # without reloading
    told = json.dumps(client.trace(run_id).model_dump(mode="json"))
    assert "Be brief." in told
    runs.close()


def test_mistakes_stand_beside_the_text_as_it_is_written(page: Page, oak: Processes):
    page.goto(f"{oak.url}/workflows/new?side=document")
    editor = page.get_by_label("The workflow document")
    expect(page.get_by_label("Script").get_by_text("Set text")).to_be_visible()
    editor.get_by_text("greeting.text").click()
    page.keyboard.press("End")
    page.keyboard.press("Enter")
    page.keyboard.type("titel: x")
    expect(page.get_by_text("titel is not a key of the language here")).to_be_visible()
    expect(page.get_by_role("button", name="Save")).to_be_disabled()
    page.keyboard.press("Control+a")
    page.keyboard.type("oak: 1\nworkflow: by-hand\nsteps:\n- step: a\nset: {x: 1}")  # the editor indents by itself
    expect(page.get_by_text("mistake")).to_be_visible()


def test_a_first_workflow_from_the_empty_page_to_its_result(page: Page, oak: Processes):
    page.goto(f"{oak.url}/workflows")
    page.get_by_role("link", name="New workflow").click()
    page.get_by_role("button", name="Save").click()
    expect(page).to_have_url(f"{oak.url}/workflows/my-first")
    page.get_by_role("button", name="Start…").click()
    expect(page.get_by_role("dialog").get_by_role("textbox", name="Name")).to_have_value("Ada Fenn")
    page.get_by_role("button", name="Start", exact=True).click()
    expect(page.get_by_label("Event and result")).to_contain_text("Welcome to Larkspur Huts, Ada Fenn.")


def test_the_next_event_is_kept_and_starts_a_run_by_hand(page: Page, oak: Processes, client: Client):
    client.save(
        "oak: 1\nworkflow: lost-things\ninput: {type: object}\n"
        "triggers: [{trigger: desk, webhook: {path: lost, verify: {scheme: none}}}, {trigger: late, schedule: {every: 1d}}]\n"
        "steps: [{step: told, set: {line: '${ input.thing }'}}]\nresult: ${ told.line }\n"
    )
    page.goto(f"{oak.url}/workflows/lost-things")
    page.get_by_role("button", name="Keep the next event").click()
    expect(page.get_by_role("status").filter(has_text="Waiting for the next event")).to_be_visible()
    assert httpx.post(f"{oak.url}/hooks/lost", json={"thing": "one <b>glove</b>"}).json() == {"kept": True}
    expect(page.get_by_text('"thing": "one <b>glove</b>"')).to_be_visible()
    page.get_by_text("Send events to the newest version").last.click()
    expect(page.get_by_text("/drafts/lost-things/late/")).to_be_visible()
    page.get_by_role("button", name="Start…").click()
    page.get_by_label("Input from").select_option("the kept event desk")
    page.get_by_role("dialog").get_by_role("button", name="Start").click()
    expect(page.get_by_text("one <b>glove</b>").first).to_be_visible()


def test_a_run_moves_on_its_page_and_can_be_cancelled(page: Page, oak: Processes, client: Client):
    client.save(
        "oak: 1\nworkflow: resting\nsteps:\n  - step: first\n    set: {x: 1}\n  - step: pause\n    wait: 1h\nresult: ${ first.x }\n"
    )
    run = client.start("resting")
    page.goto(f"{oak.url}/runs/{run.id}")
    expect(page.get_by_text("It rests at pause until")).to_be_visible()
    page.get_by_role("button", name="Cancel").click()
    expect(page.get_by_role("heading", name="cancelled")).to_be_visible()


def test_a_credential_is_stored_tested_and_removed(page: Page, oak: Processes):
    page.goto(f"{oak.url}/credentials")
    page.get_by_role("button", name="Add credential").click()
    page.get_by_label("Name").fill("by-hand")
    page.get_by_label("Kind").select_option("header")
    page.get_by_role("textbox", name="Secret").fill("a-wrong-office-key")
    page.get_by_role("textbox", name="Address to test it on").fill(f"{oak.standins}/office/me")
    page.get_by_role("button", name="Store and test").click()
    expect(page.get_by_role("status").filter(has_text="does not work")).to_contain_text("unknown API key")
    assert "a-wrong-office-key" not in page.content()
    page.locator("tr", has_text="by-hand").get_by_role("button", name="Remove").click()
    page.get_by_role("button", name="Forget it").click()
    expect(page.get_by_role("cell", name="by-hand")).to_have_count(0)


def test_a_credential_is_changed_without_its_secret(page: Page, oak: Processes, client: Client):
    client.put_credential("untried", kind="header", header="X-API-Key", secret=oak.office_key, hosts=["127.0.0.1"])
    page.goto(f"{oak.url}/credentials")
    row = page.get_by_role("row").filter(has_text="untried")
    row.get_by_role("button", name="Test", exact=True).click()
    expect(row.get_by_role("button", name="not tried")).to_be_visible()
    row.get_by_role("button", name="Change").click()
    page.get_by_role("textbox", name="Address to test it on").fill(f"{oak.standins}/office/me")
    page.get_by_role("button", name="Store and test").click()
    expect(row.get_by_role("button", name="✓ works")).to_be_visible()
    client.remove_credential("untried")


def test_a_model_is_tested_with_an_answer(page: Page, oak: Processes):
    page.goto(f"{oak.url}/models")
    page.locator("tr", has_text="larch-small").first.get_by_role("button", name="Test").click()
    found = page.get_by_role("status").filter(has_text="works")
    expect(found).to_contain_text("larch-large, larch-small")
    expect(found).to_contain_text("Hello from the model stand-in")


@pytest.mark.parametrize(
    "path",
    ["/workflows", "/workflows/booking-triage", "/runs", "/tray", "/schedules", "/credentials", "/models", "/usage"],
)
def test_pages_fit_a_narrow_screen(page: Page, oak: Processes, path):
    page.set_viewport_size({"width": 400, "height": 800})
    page.goto(oak.url + path)
    expect(page.locator("h1")).to_be_visible()
    assert page.evaluate("document.documentElement.scrollWidth") <= 400


def test_the_keyboard_alone_opens_a_run(page: Page, oak: Processes, client: Client):
    client.save("oak: 1\nworkflow: by-keys\nsteps:\n  - step: a\n    set: {x: 1}\nresult: ${ a.x }\n")
    run = client.start("by-keys").wait()
    page.goto(f"{oak.url}/runs?workflow=by-keys")
    page.get_by_role("link", name="by-keys").first.focus()
    page.keyboard.press("Enter")
    expect(page).to_have_url(re.compile(str(run.id)))


def test_a_question_is_answered_in_the_tray_with_one_key(page: Page, oak: Processes, client: Client):
    run_id = guest_writes(oak, "I would like a refund for two bunks.", "kit@guests.example")
    page.goto(f"{oak.url}/runs/{run_id}")
    expect(page.get_by_text("It waits for a person at handled.decide")).to_be_visible()
    page.get_by_role("link", name="Answer it in the tray").click()
    card = page.get_by_role("article").filter(has_text="kit@guests.example")
    card.focus()
    page.keyboard.press("Control+1")  # with something held it is another's key
    page.keyboard.press("1")
    page.get_by_role("button", name="Undo").click()
    expect(card.get_by_role("button", name="approve")).to_be_enabled()
    card.focus()
    page.keyboard.press("1")
    expect(page.get_by_role("button", name="Undo")).to_be_visible()
    page.goto(f"{oak.url}/tray?state=answered")  # whoever leaves meanwhile has answered
    expect(page.get_by_role("article").filter(has_text="kit@guests.example")).to_contain_text("approve")
    assert client.run(run_id).run.workflow == "booking-triage"
    assert client._bound(client.run(run_id).run.model_dump()).wait().state == "succeeded"


def test_who_has_the_link_answers_a_form_without_signing_in(browser: Browser, oak: Processes, client: Client):
    form = "{type: object, required: [bunks], properties: {bunks: {type: integer, title: Free bunks}}}"
    client.save(
        f"oak: 1\nworkflow: linked-form\nsteps:\n  - step: q\n    ask: {{at: link, text: How many?, form: {form}}}\nresult: ${{ q.data.bunks }}\n"
    )
    run = client.start("linked-form")
    [question] = until(lambda: client.tray(run=run.id))
    page = browser.new_page()
    page.goto(question.link.replace(question.link.split("/answer/")[0], oak.url))
    page.get_by_label("Free bunks").fill("7")
    page.get_by_role("button", name="Answer").click()
    expect(page.get_by_role("heading", name="Thank you")).to_be_visible()
    assert run.result() == 7
    page.close()


def test_a_run_is_redone_from_a_step_after_saying_what_is_kept(page: Page, oak: Processes, client: Client):
    text = "oak: 1\nworkflow: redoable\nsteps:\n  - {step: a, do: table.find, with: {table: house_rules}}\n  - {step: b, fail: no}\n"
    client.save(text)
    run = client.start("redoable").wait()
    client.save(text.replace("{step: b, fail: no}", "{step: b, set: {n: 1}}") + "result: ${ b.n }\n", over=True)
    page.goto(f"{oak.url}/runs/{run.id}?step=b")
    page.get_by_role("button", name="Run again…").click()
    dialog = page.get_by_role("dialog")
    expect(dialog.get_by_label("where it failed, b")).to_be_checked()
    dialog.get_by_label("Version").select_option(label="version 2, the newest draft")
    expect(dialog).to_contain_text("Kept: a")
    assert faults(page) == []
    dialog.get_by_role("button", name="Run again").click()
    expect(page.get_by_text("again, from where it failed, of")).to_be_visible()
    expect(page.get_by_role("heading", name="succeeded")).to_be_visible()
    page.goto(f"{oak.url}/runs?workflow=redoable&state=failed")
    expect(page.get_by_text("mended by a later run")).to_be_visible()
    page.goto(f"{oak.url}/runs?workflow=redoable&state=unmended")
    expect(page.get_by_text("No run fits these filters")).to_be_visible()


def test_items_of_a_long_list_are_stepped_through(page: Page, oak: Processes, client: Client):
    client.save("oak: 1\nworkflow: long-list\ninput: {type: object}\nsteps:\n  - step: m\n    each: ${ input.items }\n    as: n\n    width: 9\n"
                "    steps:\n      - {step: x, set: {v: \"${ 'hut ' ~ n }\"}}\n    gives: ${ x.v }\nresult: ${ m | length }\n")  # fmt: skip
    run = client.start("long-list", {"items": list(range(300))})
    assert run.result() == 300
    page.goto(f"{oak.url}/runs/{run.id}")
    items = page.get_by_role("button", name="item 1 of 300")
    items.click()
    find = page.get_by_label("Find items")
    find.fill("299")
    find.press("Enter")
    expect(page.get_by_role("button", name="item 299 of 300")).to_be_visible()
    page.get_by_role("button", name="Set v").click()
    expect(page.get_by_label("Record of the chosen step")).to_contain_text("hut 298")
    expect(page).to_have_url(re.compile(r"step=m%5B298%5D\.x|step=m\[298\]\.x"))
    page.keyboard.press("ArrowUp")  # from line to line, as in a text
    expect(page.get_by_label("Record of the chosen step").get_by_role("heading").first).to_contain_text("For each n")
    expect(page).to_have_url(re.compile(r"step=m(&|$)"))
    page.reload()  # the list is chosen, and stays open at the item
    expect(page.get_by_role("button", name="item 299 of 300")).to_be_visible()
    page.get_by_role("button", name="For each n").click()
    page.keyboard.press("ArrowDown")
    expect(page.get_by_label("Record of the chosen step").get_by_role("heading").first).to_contain_text("Set v")
    page.reload()
    expect(page.get_by_label("Record of the chosen step")).to_contain_text("hut 298")
    page.get_by_role("button", name="item 299 of 300").click()
    page.get_by_label("The items of m").get_by_role("list").get_by_role("button").nth(3).click()
    expect(page.get_by_label("Record of the chosen step")).to_contain_text("hut 3")  # the same line in another item


def test_a_schedule_is_paused_and_fired(page: Page, oak: Processes, client: Client):
    client.on(
        client.save(
            'oak: 1\nworkflow: yearly\ntriggers:\n  - {trigger: t, schedule: {cron: "0 6 1 1 *"}}\nsteps:\n  - {step: a, set: {x: 1}}\nresult: ${ a.x }\n'
        ).workflow
    )
    page.goto(f"{oak.url}/schedules")
    section = page.locator("section").filter(has_text="yearly")
    section.get_by_role("button", name="Pause").click()
    expect(section).to_contain_text("paused")
    section.get_by_role("button", name="Go on").click()
    expect(section).to_contain_text("next")
    section.get_by_role("button", name="Fire now").click()
    expect(page.get_by_role("heading", name="succeeded")).to_be_visible()


def test_many_runs_are_chosen_and_done_again(page: Page, oak: Processes, client: Client):
    client.save("oak: 1\nworkflow: many-times\nsteps:\n  - {step: a, set: {x: 1}}\nresult: ${ a.x }\n")
    for _ in range(3):
        client.start("many-times").wait()
    page.goto(f"{oak.url}/runs?workflow=many-times")
    page.get_by_label("Choose all").check()
    page.get_by_role("button", name="Run again").click()
    expect(page.get_by_text("3 runs begun again")).to_be_visible()
    expect(page.locator("tbody tr")).to_have_count(6)


# Agents


@pytest.fixture(scope="module")
def agents(oak: Processes) -> Processes:
    seed_agents(oak)
    return oak


def test_an_agents_turns_calls_messages_and_sources_are_read_on_its_run(page: Page, agents: Processes, client: Client):
    run = client.start("morning-conditions").wait(60)
    page.goto(f"{agents.url}/runs/{run.id}?step=per_hut%5B0%5D.findings")
    record = page.get_by_label("Record of the chosen step")
    turns = record.get_by_label("Turns").get_by_role("listitem")
    expect(turns).to_have_count(2)
    expect(turns.first).to_contain_text("The path and the weather are two different questions")
    expect(turns.first).to_contain_text("look_up")
    expect(turns.first).to_contain_text("forecast")
    expect(turns.first).to_contain_text('{"query":"Conditions at Kestrel Notch hut')
    turns.first.get_by_text("What it gave").first.click()
    expect(turns.first.locator("pre").first).to_be_visible()
    turns.nth(1).get_by_text("Messages as they were sent").click()
    expect(turns.nth(1)).to_contain_text("You watch conditions for one mountain hut")
    expect(turns.nth(1)).to_contain_text('"role": "tool"')
    expect(record.get_by_role("row").filter(has_text="Calls of tools").get_by_role("cell").nth(1)).to_have_text("2")
    expect(record.get_by_role("link", name="Path to Kestrel Notch")).to_have_attribute(
        "href", "https://paths.example/kestrel-notch"
    )


def test_an_agent_that_made_no_progress_says_so_in_a_sentence(page: Page, agents: Processes, client: Client):
    agent = "{model: careful, brief: house rules, prompt: May I bring a dog?, limits: {turns: 1}, tools: [{table: house_rules}]}"
    client.save(
        f"oak: 1\nworkflow: cut-short\nsteps:\n  - {{step: a, do: agent, with: {agent}}}\nresult: ${{ a.ended }}\n"
    )
    run = client.start("cut-short").wait(60)
    page.goto(f"{agents.url}/runs/{run.id}?step=a")
    expect(page.get_by_label("Record of the chosen step").get_by_role("status")).to_have_text(
        "a was ended: it had taken as many turns as its limits allow"
    )


def test_one_talks_with_a_draft_retries_and_clears(page: Page, agents: Processes):
    page.goto(f"{agents.url}/workflows/guest-chat")
    talk = page.get_by_role("region", name="Talk")
    talk.get_by_label("Say something").fill("May I bring a dog to Glasswater?")
    talk.get_by_label("Say something").press("Enter")
    expect(talk).to_contain_text("annex of Glasswater")
    expect(talk).to_contain_text("house_rules_find")
    talk.get_by_label("Say something").fill("And at Marmot Saddle?")
    talk.get_by_role("button", name="Send").click()
    expect(talk).to_contain_text("As I said of Glasswater")
    talk.get_by_role("button", name="Retry the last").click()
    expect(talk.get_by_text("thinking…")).to_have_count(0)
    expect(talk.get_by_text("And at Marmot Saddle?")).to_have_count(1)
    expect(talk).to_contain_text("As I said of Glasswater")
    talk.get_by_role("button", name="Clear").click()
    expect(talk.get_by_text("Glasswater")).to_have_count(0)
    assert not [c for c in agents.client().conversations(limit=500) if c.key == "guest "]


def test_a_letter_is_changed_and_approved_in_the_tray(page: Page, agents: Processes, client: Client):
    run = client.start("route-briefing", {"huts": ["Thistle Col", "Glasswater"], "guest": "eve.moor@guests.example"})
    until(lambda: [q for q in client.tray() if q.run_id == run.id])
    page.goto(f"{agents.url}/tray")
    card = page.get_by_role("article").filter(has_text="eve.moor@guests.example")
    expect(card).to_contain_text("wants to call send_letter")
    card.get_by_text("The call as a whole").click()
    expect(card.get_by_text("eve.moor@guests.example").last).to_be_visible()
    letter = card.get_by_role("textbox").first
    expect(letter).to_have_value(re.compile("Dear guest, both huts can be reached"))
    letter.fill("Dear Eve, the path is icy before ten.")
    card.get_by_role("button", name="approve").click()
    expect(card).to_have_count(0)
    assert run.wait(60).state == "succeeded"
    letters = [one["body"]["text"] for one in agents.received()["received"] if one["body"].get("about") == "route"]
    assert letters[-1] == "Dear Eve, the path is icy before ten."
    page.goto(f"{agents.url}/runs/{run.id}?step=briefing")
    expect(page.get_by_label("Record of the chosen step")).to_contain_text("approved by owner with changed arguments")


def test_usage_is_grouped_and_budgets_are_set_and_removed(page: Page, agents: Processes, client: Client):
    client.start("reply-screen", {"guest": "a@b.example", "question": "?", "answer": "Breakfast is included."}).wait(60)
    until(lambda: client.usage(["workflow"], None, None, "reply-screen"))
    page.goto(f"{agents.url}/usage")
    expect(page.get_by_role("figure", name="Money by day")).to_be_visible()
    expect(page.get_by_role("cell", name="reply-screen")).to_be_visible()
    page.get_by_label("Group by").select_option("alias")
    expect(page.get_by_role("cell", name="quick", exact=True)).to_be_visible()
    page.get_by_role("button", name="Add budget").click()
    page.get_by_label("Name").fill("office")
    page.get_by_label("Money", exact=True).fill("12.5")
    page.get_by_label("Of").select_option("reply-screen")
    page.get_by_role("button", name="Set").click()
    row = page.get_by_role("row").filter(has_text="office")
    expect(row).to_contain_text("reply-screen, each day")
    expect(row).to_contain_text("within")
    row.get_by_role("button", name="Remove").click()
    expect(row).to_have_count(0)
    with page.expect_download() as download:
        page.get_by_role("link", name="CSV").click()
    assert "day,workflow,alias" in download.value.path().read_text()


def test_a_model_is_said_to_take_pictures(page: Page, agents: Processes, client: Client):
    page.goto(f"{agents.url}/models")
    page.get_by_role("button", name="Connect a model").click()
    page.get_by_role("button", name="Write it down by hand").click()
    page.get_by_label("Name", exact=True).fill("sees")
    page.get_by_label("Server, with its version").fill(f"{agents.standins}/v1")
    page.get_by_label("Model", exact=True).fill("larch-large")
    page.get_by_label("Credential").select_option("models")
    page.get_by_role("checkbox", name="images").check()
    page.get_by_role("button", name="Store and test").click()
    expect(page.get_by_role("cell", name="sees")).to_be_visible()
    assert next(m for m in client.models() if m.name == "sees").config.takes == ["images"]
    client.remove_model("sees")


def test_a_model_is_connected_in_one_dialog(page: Page, agents: Processes, client: Client):
    page.goto(f"{agents.url}/models?connect=1")
    dialog = page.get_by_role("dialog")
    dialog.get_by_label("Address of its server").fill(f"{agents.standins}/no-tools")
    dialog.get_by_role("button", name="See what it offers").click()
    expect(dialog.get_by_role("alert")).to_contain_text("give the server's key")
    dialog.get_by_label("Key, if it asks for one").fill(MODEL_KEY)
    dialog.get_by_role("button", name="See what it offers").click()
    expect(dialog).to_contain_text("offers 2 models")
    dialog.get_by_label("Model").select_option("larch-small")
    dialog.get_by_label("Name here").fill("handy")
    dialog.get_by_role("button", name="Connect", exact=True).click()
    expect(dialog).to_contain_text("handy is connected")
    expect(dialog).to_contain_text("knows no tools: they are told in words")
    expect(dialog).to_contain_text("kept as the credential handy-key")
    dialog.get_by_role("button", name="Done").click()
    expect(page.get_by_role("row").filter(has_text="handy")).to_contain_text("takes a JSON Schema")
    client.remove_model("handy")


def test_an_empty_console_leads_on(browser: Browser, new_database, tmp_path):
    empty = Processes(tmp_path, new_database())
    empty.start_all()
    empty.start_worker()
    page = browser.new_page()
    try:
        sign_in(page, empty)
        expect(page.get_by_role("heading", name="Play an example")).to_be_visible()
        sorting = page.get_by_role("listitem").filter(has_text="Sort what guests write")
        expect(sorting.get_by_role("button", name="Play")).to_be_disabled()
        page.get_by_role("link", name="Connect a model").click()
        expect(page.get_by_role("dialog")).to_contain_text("Address of its server")
        page.goto(empty.url)
        page.get_by_role("listitem").filter(has_text="Greet a guest").get_by_role("button", name="Play").click()
        expect(page.get_by_role("heading", name="succeeded")).to_be_visible()
        expect(page.get_by_text("Good morning, Ada Fenn. 2 nights at Glasswater it is.").first).to_be_visible()
    finally:
        page.close()
        empty.stop()


def test_a_tool_server_is_stored_tested_and_removed(page: Page, agents: Processes):
    page.goto(f"{agents.url}/models")
    section = page.get_by_role("region", name="Tool servers")
    expect(section.get_by_role("cell", name="weather-station")).to_be_visible()
    section.get_by_role("button", name="Add tool server").click()
    section.get_by_label("Name of the server").fill("hills")
    section.get_by_label("Address").fill(f"{agents.standins}/weather")
    section.get_by_role("button", name="Store and connect").click()
    expect(section.get_by_role("status")).to_contain_text("hills answers and offers 2 tools")
    expect(section.get_by_role("status")).to_contain_text("forecast")
    section.get_by_role("row").filter(has_text="hills").get_by_role("button", name="Remove").click()
    page.get_by_role("button", name="Forget it").click()
    expect(section.get_by_role("cell", name="hills")).to_have_count(0)
    section.get_by_role("button", name="Add tool server").click()
    section.get_by_label("Name of the server").fill("no name!")
    section.get_by_label("Address").fill("http://127.0.0.1:9/mcp")
    section.get_by_role("button", name="Store and connect").click()
    expect(section).to_contain_text("is no name for a tool server")
