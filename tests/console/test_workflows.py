"""Workflows and their jobs in the console: one of twenty steps is written there alone, run and saved, and read back as text; a mistake is told in place."""

import re

from playwright.sync_api import Locator, Page, expect

from bricola.client import Client
from bricola.core.definitions.text import read_definition, write_definition
from tests.conftest import Demo
from tests.console.conftest import to_overview

WRITTEN = """\
workflow: lock-day
input:
  registration: {type: Registration}
  lockNumber: {type: int}
output:
  lines: {type: string, repeats: true}
  count: {type: int}
faults:
  NoVessel:
    fields:
      registration: {type: Registration}
steps:
  known:
    attempt:
      vessel:
        call: vessel.get
        input: {registration: registration}
    catch:
      NotFound:
        steps:
          none:
            fail: NoVessel
            message: f"No vessel {registration}."
            detail: {registration: registration}
  begin:
    set: {total: '0'}
  both:
    parallel:
      left:
        steps:
          gates:
            attempt:
              place:
                call: lock.get
                input: {lockNumber: lockNumber}
            catch:
              anything:
                steps:
                  shut: {note: caught.message}
      right:
        steps:
          passed:
            call: vessel-permit.ofVessel
            input: {registration: registration, limit: '5'}
  size:
    when:
      long:
        test: vessel.vessel.lengthM > 30
        steps:
          wide:
            set: {word: '"long"'}
    otherwise:
      slim:
        set: {word: '"short"'}
  listed:
    for_each: passed.vesselPermit
    item: one
    steps:
      plus:
        set: {total: total + 1}
      told: {note: one.permitNumber}
    collect: one.permitNumber
  down:
    repeat_while: total > 3
    at_most: 10
    steps:
      less:
        set: {total: total - 1}
      seen: {note: total}
  pause: {wait: '0'}
  answer:
    reply: {lines: listed, count: total}
"""


def pane(desk: Page) -> Locator:
    return desk.get_by_role("region", name="The chosen step")


def step(desk: Page, action: str, name: str, within: str = "") -> Locator:
    """Insert a step after the chosen one, or in a block of it, and give it a name."""
    if within:
        pane(desk).get_by_role("button", name=f"Insert in {within}", exact=True).click()
    else:
        desk.get_by_role("button", name="Insert a step", exact=True).click()
    panel = desk.get_by_role("dialog", name="Insert a step")
    panel.get_by_label("Narrow the steps").fill(action)
    panel.get_by_role("button", name=re.compile(f"^{action}")).first.click()
    title = pane(desk).get_by_label("Name of the step")
    title.fill(name)
    title.blur()
    expect(desk.locator(f"[data-step$='{name}'][aria-pressed=true]")).to_be_visible()
    return pane(desk)


def choose(desk: Page, path: str) -> Locator:
    desk.locator(f"[data-step='{path}']").click()
    expect(pane(desk).get_by_label("Name of the step")).to_have_value(path.rpartition(".")[2])
    return pane(desk)


def fill(part: Locator, label: str, text: str) -> None:
    part.get_by_label(label, exact=True).fill(text)


def typed(desk: Page, group: str, name: str, kind: str, more: str) -> None:
    frame = desk.get_by_role("region", name="The workflow")
    frame.get_by_role("button", name=more).first.click()
    fresh = frame.get_by_label("Name", exact=True)
    row = fresh.nth(fresh.count() - 1) if group == "last" else fresh.nth(int(group))
    row.fill(name)
    frame.get_by_label(f"Type of {name}", exact=True).last.fill(kind)


def test_a_workflow_of_twenty_steps_is_written_here_alone(desk: Page, own: Demo) -> None:
    desk.goto(f"{own.url}/workflows")
    desk.get_by_role("button", name="New workflow").click()
    desk.get_by_role("dialog").get_by_label("Name").fill("lock-day")
    desk.get_by_role("button", name="Make it").click()
    expect(desk.get_by_role("heading", level=1)).to_have_text("lock-day")
    typed(desk, "0", "registration", "Registration", "One more input")
    typed(desk, "1", "lockNumber", "int", "One more input")
    typed(desk, "2", "lines", "string", "One more output")
    desk.get_by_role("region", name="The workflow").get_by_label("list", exact=True).nth(2).check()
    typed(desk, "3", "count", "int", "One more output")
    frame = desk.get_by_role("region", name="The workflow")
    frame.get_by_role("button", name="Declare one more").click()
    frame.get_by_label("Name of the fault").fill("NoVessel")
    typed(desk, "4", "registration", "Registration", "One more field")
    expect(desk.get_by_role("status").first).to_contain_text("1 mistake ")  # nothing is answered yet

    choose(desk, "answer")
    desk.get_by_role("button", name="Insert a step", exact=True).wait_for()
    first = step(desk, "attempt", "known")
    first.get_by_role("button", name="Move up").click()
    fill(first, "Fault, or a name", "NotFound")
    vessel = step(desk, "call", "vessel", "its steps")
    fill(vessel, "Calls", "vessel.get")
    vessel.get_by_role("button", name="Suggest 1 link").click()
    expect(vessel.get_by_label("registration is filled with")).to_have_value("registration")
    choose(desk, "known")
    none = step(desk, "fail", "none", "on NotFound")
    fill(none, "Declared fault", "NoVessel")
    fill(none, "Message", 'f"No vessel {registration}."')
    none.get_by_role("button", name="Suggest 1 link").click()
    choose(desk, "known")
    begin = step(desk, "set", "begin")
    fill(begin, "Name", "total")
    fill(begin, "total is", "0")
    step(desk, "parallel", "both")
    step(desk, "attempt", "gates", "left")
    place = step(desk, "call", "place", "its steps")
    fill(place, "Calls", "lock.get")
    place.get_by_role("button", name="Suggest 1 link").click()
    choose(desk, "both.left.gates")
    shut = step(desk, "note", "shut", "on anything")
    fill(shut, "Line in the trace", "caught.message")
    choose(desk, "both")
    passed = step(desk, "call", "passed", "right")
    fill(passed, "Calls", "vessel-permit.ofVessel")
    fill(passed, "registration is filled with", "registration")
    fill(passed, "limit is filled with", "5")
    choose(desk, "both")
    size = step(desk, "when", "size")
    fill(size, "Name of the branch", "long")
    fill(size, "Condition of long", "vessel.vessel.lengthM > 30")
    wide = step(desk, "set", "wide", "long")
    fill(wide, "Name", "word")
    fill(wide, "word is", '"long"')
    choose(desk, "size")
    slim = step(desk, "set", "slim", "otherwise")
    fill(slim, "Name", "word")
    fill(slim, "word is", '"short"')
    choose(desk, "size")
    listed = step(desk, "for each", "listed")
    fill(listed, "For each item of", "passed.vesselPermit")
    fill(listed, "Each item gives", "one.permitNumber")
    plus = step(desk, "set", "plus", "its steps")
    fill(plus, "Name", "total")
    fill(plus, "total is", "total + 1")
    told = step(desk, "note", "told")
    fill(told, "Line in the trace", "one.permitNumbr")
    expect(told).to_contain_text("Did you mean permitNumber?")
    fill(told, "Line in the trace", "one.permitNumber")
    expect(told).not_to_contain_text("Did you mean")
    choose(desk, "listed")
    down = step(desk, "repeat while", "down")
    fill(down, "Again while", "total > 3")
    less = step(desk, "set", "less", "its steps")
    fill(less, "Name", "total")
    fill(less, "total is", "total - 1")
    fill(step(desk, "note", "seen"), "Line in the trace", "total")
    choose(desk, "down")
    pause = step(desk, "wait", "pause")
    fill(pause, "Seconds, or a duration", "0")
    answer = choose(desk, "answer")
    answer.get_by_label("lines is filled with").press_sequentially("listed")
    answer.get_by_label("count is filled with").press_sequentially("total")
    expect(answer.get_by_text("all that is required is filled")).to_be_visible()
    expect(desk.get_by_role("status").first).to_contain_text("no mistakes")

    desk.get_by_role("button", name="Run it").click()
    panel = desk.get_by_role("dialog", name=re.compile("Run lock-day"))
    panel.get_by_label("Values as JSON").fill('{"registration": "LK-0412", "lockNumber": 3}')
    panel.get_by_role("button", name="Run it in rehearsal as a trial").click()
    expect(panel.get_by_role("status")).to_contain_text("Answered")
    expect(panel.locator("pre")).to_contain_text('"count": 1')
    panel.get_by_role("button", name="Close").click()
    expect(desk.locator("[data-step='known.vessel']")).to_contain_text(re.compile("µs|ms"))  # the times of the run over the steps

    desk.keyboard.press("Control+s")
    expect(desk.get_by_text("Saved as a draft.")).to_be_visible()
    with Client(own.url) as client:
        client.sign_in("imke", own.password("imke"))
        assert client.export()["workflows/lock-day.yaml"] == WRITTEN
        pause = choose(desk, "pause")
        for words in ("At rest", ""):  # saved at once: what was typed is what is stored, whatever was looked at last
            fill(pause, "Description", words)
            desk.keyboard.press("Control+s")
            expect(desk.get_by_role("status").first).to_contain_text("Saved as a draft.")
            assert ("At rest" in client.export()["workflows/lock-day.yaml"]) == bool(words)
        assert client.export()["workflows/lock-day.yaml"] == WRITTEN
    assert write_definition(read_definition(WRITTEN)) == WRITTEN
    desk.get_by_role("radio", name="Outline").click()
    steps = desk.get_by_role("list", name="Steps")
    expect(steps.locator("[data-step]")).to_have_count(20)
    desk.keyboard.press("Escape")
    desk.locator("body").click()
    desk.keyboard.press("j")
    desk.keyboard.press("j")
    expect(steps.locator("[aria-pressed=true]")).to_have_attribute("data-step", "known.vessel")
    desk.get_by_role("radio", name="Text").click()
    text = desk.get_by_label("Text of the workflow")
    expect(text).to_have_value(WRITTEN)
    text.fill(WRITTEN.replace("total > 3", "totl > 3"))
    expect(desk.get_by_role("status").first).to_contain_text("mistake")


def test_the_trace_of_a_call_lies_over_its_steps(desk: Page, own: Demo) -> None:
    with Client(own.url) as client:
        client.sign_in("imke", own.password("imke"))
        reply = client.call("rehearsal", "PassageBooking", "BookPassage", client.sample("PassageBooking", "BookPassage", "rehearsal")["values"] | {"lockNumber": 7})
    desk.goto(f"{own.url}/calls?call={reply['call']}")
    trace = desk.get_by_role("region", name="Trace")
    expect(trace).to_contain_text("Began in too_large: LK-0070 does not fit into Mallard Reach by its length.")
    trace.get_by_role("button", name=re.compile("know.vessel")).click()
    expect(trace).to_contain_text('"lengthM": "59.96"')
    desk.goto(f"{own.url}/workflows?workflow=book-passage&call={reply['call']}&step=too_large")
    expect(desk.locator("[data-step='too_large']")).to_contain_text(re.compile("✕"))
    desk.get_by_role("tab", name=re.compile("Known before")).click()
    expect(pane(desk)).to_contain_text("59.96")


def test_a_job_is_looked_at_and_tried_again(desk: Page, own: Demo) -> None:
    with Client(own.url) as client:
        client.sign_in("imke", own.password("imke"))
        good = client.call("rehearsal", "PermitRenewal", "RenewPermits", {"operatorNumber": "OP-0040", "year": 2031})["answer"]["job"]
        bad = client.call("rehearsal", "PermitRenewal", "RenewPermits", {"operatorNumber": "OP-9999", "year": 2031})["answer"]["job"]
    to_overview(desk, own)
    desk.get_by_role("link", name="Jobs").click()
    rows = desk.get_by_role("row").filter(has_text="PermitRenewal.RenewPermits")
    expect(rows).to_have_count(2)
    expect(rows.filter(has_text="done")).to_have_count(1)
    desk.goto(f"{own.url}/jobs?job={good}")
    side = desk.get_by_role("complementary", name="The selected job")
    expect(side.get_by_text("all[9].permit", exact=True)).to_be_visible()
    expect(side.get_by_text('{"permitNumber":"Y2031-', exact=False).first).to_be_visible()
    expect(side.get_by_role("button", name="…")).to_have_count(0)
    desk.keyboard.press("Escape")
    desk.get_by_role("radio", name="Failed or unknown").click()
    expect(rows).to_have_count(0)  # a declared fault is an answer
    desk.goto(f"{own.url}/jobs?job={bad}")
    expect(side.get_by_text("OP-9999 has no vessels in the register.").first).to_be_visible()
    side.get_by_role("button", name="Try again…").click()
    dialog = desk.get_by_role("dialog")
    dialog.get_by_role("button", name="Keep it as it is").click()
    expect(dialog).to_have_count(0)
    side.get_by_role("button", name="Try again…").click()
    dialog.get_by_role("button", name="Try again").click()
    expect(side.get_by_text("Attempt").locator("xpath=following-sibling::dd[1]")).to_have_text("2")
    side.get_by_role("button", name="End as it is…").click()
    dialog.get_by_role("button", name="End as it is").click()
    expect(side.get_by_text("ended by hand")).to_be_visible()
