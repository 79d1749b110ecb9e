"""The report, opened from disk in a real browser, as its readers do."""

from __future__ import annotations

import re
import shutil
import sqlite3
from collections.abc import Iterator
from contextlib import closing
from pathlib import Path

import pytest
from playwright.sync_api import Browser, Page, sync_playwright

from tests.program import Program
from tests.told import LONG, SECRET

pytestmark = pytest.mark.xdist_group("report")
CHROMIUM = ("/usr/bin/chromium", "/usr/bin/chromium-browser", "/usr/bin/google-chrome")
CLOSED = (
    "--no-sandbox --disable-gpu --no-first-run --disable-background-networking "
    "--disable-component-update --disable-sync"
).split()


@pytest.fixture(scope="module")
def browser() -> Iterator[Browser]:
    found = next((each for each in CHROMIUM if Path(each).exists()), None) or shutil.which("chrome")
    assert found, "Chromium comes with the system's packages"
    with sync_playwright() as playwright:
        opened = playwright.chromium.launch(executable_path=found, args=CLOSED)
        yield opened
        opened.close()


@pytest.fixture
def page(browser: Browser) -> Iterator[Page]:
    """A page that must stay quiet: no error, and no request for anything but a file."""
    context = browser.new_context(viewport={"width": 1280, "height": 800})
    opened = context.new_page()
    said: list[str] = []
    opened.on("console", lambda message: said.append(message.text))
    opened.on("pageerror", lambda error: said.append(str(error)))
    opened.on("request", lambda request: said.append(request.url))
    yield opened
    context.close()
    assert [each for each in said if not each.startswith(("file:", "data:"))] == []


def _written(program: Program, *arguments: str) -> Path:
    done = program.json("report", "--to", "told.html", *arguments)
    assert done["chapters"] == done["queries"] == 4
    path = program.folder / "told.html"
    assert path.stat().st_size == done["bytes"]
    return path


def _query(page: Page, part: str) -> str:
    rows = page.locator("#ranked tbody tr")
    return str(rows.filter(has_text=part).locator("th").inner_text())


def test_every_chapter_tells_the_whole_way_of_its_query(told: Program, page: Page) -> None:
    page.goto(_written(told).as_uri())
    query = _query(page, "keeper =")
    page.locator(f"#ranked a[href='#{query}']").click()
    chapter = page.locator(f"details#{query}")
    assert chapter.get_attribute("open") is not None
    assert chapter.locator(".way .there").all_inner_texts() == [
        "captured", "plan", "findings", "remedies", "trials", "settled",
    ]  # fmt: skip
    text = chapter.inner_text()
    trial = told.json("show", "t1")["queries"][0]
    assert trial["verdict"] in text and "visit (keeper, day)" in text
    assert "keepers wait </script>" in text and "full-scan" in text
    assert re.search(r"after/before 0\.\d+, between 0\.\d+ and 0\.\d+", text)
    kept = page.locator("#kept").inner_text()
    assert query in kept and "less of" in kept


def test_what_strangers_wrote_is_shown_as_text(told: Program, page: Page) -> None:
    page.goto(_written(told).as_uri())
    page.locator("#all").click()
    text = page.locator("body").inner_text()
    for summary in page.locator("summary", has_text="slowest runs").all():
        summary.click()
    text = page.locator("body").inner_text()
    assert "</script><script>window.bad=1</script>" in text
    assert '"><img src=x onerror="window.bad=1"> & ' in text
    assert "{{ 7 * 7 }}" in text
    assert "\\u202e" in text and "\u202e" not in text and "\x1b" not in text
    assert LONG in text
    assert page.evaluate("window.bad") is None
    assert page.locator("img").count() == 0


def test_a_plan_folds_zooms_and_is_worked_by_keys(told: Program, page: Page) -> None:
    page.goto(_written(told).as_uri())
    query = _query(page, "JOIN")
    page.locator(f"#ranked a[href='#{query}']").click()
    plan = page.locator(f"#{query} .plan")
    shown = plan.locator("tbody tr:visible")
    steps = shown.count()
    assert steps >= 3
    focused = "[...document.querySelectorAll('.plan tr')].indexOf(document.activeElement)"

    plan.locator("tbody tr").first.focus()
    at = page.evaluate(focused)
    page.keyboard.press("ArrowDown")
    assert page.evaluate(focused) == at + 1
    page.keyboard.press("ArrowUp")
    page.keyboard.press("ArrowLeft")  # folds
    assert shown.count() == 1
    assert shown.get_attribute("aria-expanded") == "false"
    page.keyboard.press("ArrowRight")
    assert shown.count() == steps

    self_bars = plan.locator(".pc").all_inner_texts()
    plan.locator("[data-show=total]").click()
    assert plan.locator(".pc").first.inner_text() == "100 %"
    plan.locator("[data-show=self]").click()
    assert plan.locator(".pc").all_inner_texts() == self_bars

    plan.locator("tbody tr").nth(steps - 1).focus()
    page.keyboard.press("Enter")  # that step alone
    assert shown.count() == 1
    assert plan.locator("[data-whole]").is_enabled()
    page.keyboard.press("Escape")
    assert shown.count() == steps

    plan.locator("input").fill("buoy")
    assert "found" in plan.locator("output").inner_text()
    assert "buoy" in plan.locator("tr.match").first.inner_text()


def test_the_ranking_is_searched_and_sorted(told: Program, page: Page) -> None:
    page.goto(_written(told).as_uri())
    rows = page.locator("#ranked tbody tr:visible")
    page.fill("#find", "b.name")
    few = rows.count()
    assert 0 < few < 4 and page.locator("#found").inner_text() == f"{few} of 4"
    page.fill("#find", "")
    times = "[...document.querySelectorAll('#ranked tbody tr')].map(r => +r.cells[1].dataset.value)"
    falling = page.evaluate(times)
    assert falling == sorted(falling, reverse=True)
    page.locator("#ranked thead button", has_text="total").click()
    assert page.evaluate(times) == sorted(falling)


@pytest.mark.parametrize("scheme", ["light", "dark"])
def test_it_fits_a_small_screen_and_is_named_for_screen_readers(
    told: Program, browser: Browser, scheme: str
) -> None:
    context = browser.new_context(
        viewport={"width": 360, "height": 740},
        color_scheme="dark" if scheme == "dark" else "light",
    )
    page = context.new_page()
    page.goto(_written(told).as_uri())
    page.locator("#all").click()
    assert page.evaluate("document.documentElement.scrollWidth") <= 360
    unnamed = page.evaluate(
        "[...document.querySelectorAll('button, input')].filter(e => !e.innerText"
        " && !e.closest('label')?.innerText).length"
    )
    assert unnamed == 0
    # Letters against the paper: at least 4.5 to 1, by the Web Content Accessibility Guidelines.
    for part in ("p", ".dim", "a", ".verdict.good"):
        assert page.evaluate(_CONTRAST, part) >= 4.5, part
    context.close()


_CONTRAST = """(part) => {
  const light = (text) => {
    const [r, g, b] = text.match(/[\\d.]+/g).map((x) => x / 255)
      .map((x) => (x <= 0.04045 ? x / 12.92 : ((x + 0.055) / 1.055) ** 2.4));
    return 0.2126 * r + 0.7152 * g + 0.0722 * b;
  };
  const ink = light(getComputedStyle(document.querySelector(part)).color);
  const paper = light(getComputedStyle(document.body).backgroundColor);
  return (Math.max(ink, paper) + 0.05) / (Math.min(ink, paper) + 0.05);
}"""


def test_masked_it_has_no_literal_of_any_statement(told: Program, page: Page) -> None:
    open_text = _written(told).read_text()
    assert SECRET in open_text
    text = _written(told, "--mask").read_text()
    for literal in (SECRET, LONG, "window.bad", "quoted", "turned"):
        assert literal not in text, literal
    page.goto((told.folder / "told.html").as_uri())
    query = _query(page, "keeper =")
    page.locator(f"#ranked a[href='#{query}']").click()
    chapter = page.locator(f"details#{query}").inner_text()
    assert "keeper = $" in chapter and "full-scan" in chapter and "= 42" not in chapter


def test_hundreds_of_queries_stay_small(humble: Program) -> None:
    with closing(sqlite3.connect(humble.folder / "app.db")) as connection:
        columns = ", ".join(f"c{n} INTEGER" for n in range(60))
        connection.execute(f"CREATE TABLE wide (id INTEGER PRIMARY KEY, {columns})")
        connection.execute("CREATE INDEX wide_c1 ON wide (c1)")
    statements = [
        f"SELECT a.c{n % 60}, count(*) FROM wide a JOIN wide b ON b.c1 = a.c{n // 60} "
        f"LEFT JOIN wide d ON d.id = b.c{n % 7} WHERE a.c{n % 59} > {n} AND b.c2 IN "
        f"(SELECT c{n % 11} FROM wide WHERE c{n // 50} < {n}) GROUP BY 1 ORDER BY 2 DESC;"
        for n in range(200)
    ]
    (humble.folder / "many.sql").write_text("\n".join(statements))
    humble.ok("init", "app.db")
    humble.ok("capture", "script", "many.sql")
    done = humble.json("report", "--top", "200")
    assert done["chapters"] == 200
    assert done["bytes"] < 2_400_000
    assert (humble.folder / "report.html").read_text().count('role="treegrid"') == 200


def test_a_ledger_in_which_nothing_was_captured_makes_a_report_too(humble: Program) -> None:
    with closing(sqlite3.connect(humble.folder / "app.db")) as connection:
        connection.execute("CREATE TABLE buoy (id INTEGER PRIMARY KEY)")
    humble.ok("init", "app.db")
    said = humble.ok("report").out
    assert "0 of 0 queries" in said
    assert "Nothing was captured yet." in (humble.folder / "report.html").read_text()
    humble.fails(4, "report", "--to", "nowhere/report.html")
