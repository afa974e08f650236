"""The report in a browser: nothing is fetched, nothing fails, what can be worked works, and names are only text."""

from __future__ import annotations

import base64
import itertools
import shutil
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
from selenium.webdriver import Chrome, ChromeOptions, ChromeService
from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys

from tests.conftest import DATA
from wendascope import records
from wendascope.frame.file import load
from wendascope.frame.notes import Note, Subject
from wendascope.frame.places import frame_path
from wendascope.report.formats import export
from wendascope.report.survey import SurveyDocument, survey_document
from wendascope.trials.proofs.proof import stored_proofs
from wendascope.trials.survey.examine import stored_examination, stored_refuted

HOSTILE = "</script><img src=x onerror=\"document.title='taken'\"><b>tram</b>"


def _document(path: Path) -> SurveyDocument:
    survey, (drawn, findings) = records.SURVEY.newest(path), stored_examination(path)
    assert survey is not None
    return survey_document(load(path), survey, 16.7, drawn, findings, stored_proofs(path), stored_refuted(path))


@pytest.fixture(scope="module")
def page(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The report of the demo, in which a pass and a finding have names that want to be markup."""
    document = _document(DATA / "depot.wend")
    document.passes[0].name = document.findings[0].title = HOSTILE
    path = tmp_path_factory.mktemp("report") / "frame.html"
    export("html", document, path, DATA / "depot.wend")
    return path


@pytest.fixture(scope="module")
def browser() -> Iterator[Chrome]:
    """The distribution's own, without a display, which tells all that a page fetches and complains of."""
    found, driver = shutil.which("chromium"), shutil.which("chromedriver")
    if found is None or driver is None:
        pytest.skip("chromium and its driver are not installed")
    options = ChromeOptions()
    options.binary_location = found
    for argument in ("--headless=new", "--no-sandbox", "--disable-gpu", "--window-size=1280,800"):
        options.add_argument(argument)
    options.set_capability("goog:loggingPrefs", {"browser": "ALL", "performance": "ALL"})
    browser = Chrome(options=options, service=ChromeService(driver))
    yield browser
    browser.quit()


@pytest.fixture
def opened(browser: Chrome, page: Path) -> Chrome:
    browser.get(page.as_uri())
    return browser


@pytest.mark.driver
def test_it_says_nothing_bad_and_fetches_nothing(opened: Chrome, page: Path) -> None:
    assert opened.get_log("browser") == []
    asked = [
        line["message"] for line in opened.get_log("performance") if "Network.requestWillBeSent" in line["message"]
    ]
    assert asked and all(page.as_uri() in line or '"url":"data:' in line for line in asked)
    assert page.stat().st_size < 3_000_000


@pytest.mark.driver
def test_it_begins_with_the_plan_and_leads_to_all_parts(opened: Chrome) -> None:
    parts = [part.get_attribute("id") for part in opened.find_elements(By.CSS_SELECTOR, "main > section")]
    assert parts == ["plan", "passes", "all", "trials", "memory", "steps", "how"]
    links = [
        str(link.get_attribute("href")).rpartition("#")[2] for link in opened.find_elements(By.CSS_SELECTOR, "nav a")
    ]
    assert links == parts
    levels = [int(h.tag_name[1]) for h in opened.find_elements(By.CSS_SELECTOR, "h1, h2, h3")]
    assert levels[0] == 1 and levels.count(1) == 1 and all(b - a <= 1 for a, b in itertools.pairwise(levels))
    for picture in opened.find_elements(By.TAG_NAME, "img"):
        assert picture.get_attribute("alt"), "a picture says what it is"
    assert opened.execute_script("return [...document.images].every(i => i.complete && i.naturalWidth > 0)")
    words = opened.find_element(By.ID, "plan").text
    assert "Same picture" in words or "same picture" in words
    assert opened.find_elements(By.CSS_SELECTOR, "#plan pre"), "the code to write is there"


@pytest.mark.driver
def test_the_slider_moves_and_the_search_filters(opened: Chrome) -> None:
    slider = opened.find_element(By.CSS_SELECTOR, ".pair input")
    after = opened.find_element(By.CSS_SELECTOR, ".pair .after")
    clip = after.value_of_css_property("clip-path")
    slider.send_keys(Keys.ARROW_RIGHT * 10)
    assert "50%" in clip and after.value_of_css_property("clip-path") not in ("none", clip)
    rows = opened.find_elements(By.CSS_SELECTOR, "#findings tbody tr")
    search = opened.find_element(By.ID, "search")
    search.send_keys("rain BLENDED")
    seen = [row.text.lower() for row in rows if row.is_displayed()]
    assert 0 < len(seen) < len(rows) and all("rain" in text and "blended" in text for text in seen)
    assert opened.find_element(By.ID, "found").text == f"{len(seen)} of {len(rows)}"
    search.clear()
    search.send_keys(" ")
    assert all(row.is_displayed() for row in rows)


@pytest.mark.driver
def test_hostile_names_are_text_and_a_foreign_script_does_not_run(opened: Chrome, page: Path, tmp_path: Path) -> None:
    assert opened.title.startswith("depot.wend")
    assert HOSTILE in opened.find_element(By.ID, "passes").text
    # should a text ever come to be markup, the policy still keeps it from running
    broken = tmp_path / "broken.html"
    broken.write_text(
        page.read_text("utf-8").replace("<main>", "<main><script>document.title = 'taken'</script>" + HOSTILE)
    )
    opened.get(broken.as_uri())
    assert opened.title.startswith("depot.wend")
    assert any("Content Security Policy" in line["message"] for line in opened.get_log("browser"))


@pytest.mark.driver
def test_text_is_readable_in_light_and_dark_and_it_prints_in_pages(opened: Chrome) -> None:
    for scheme in ("light", "dark"):
        opened.execute_cdp_cmd(
            "Emulation.setEmulatedMedia", {"features": [{"name": "prefers-color-scheme", "value": scheme}]}
        )
        for selector in ("body", ".soft", "th", "pre"):
            assert _contrast(opened, selector) >= 4.5, (scheme, selector)
    printed: Any = opened.execute_cdp_cmd("Page.printToPDF", {"printBackground": True})
    data = base64.b64decode(printed["data"])
    assert data.startswith(b"%PDF") and data.count(b"/Type /Page\n") >= 5


def _contrast(browser: Chrome, selector: str) -> float:
    """Of text and what is behind it, by the Web Content Accessibility Guidelines 2.2."""
    return float(
        browser.execute_script(
            """
            const item = document.querySelector(arguments[0]);
            const numbers = (text) => text.match(/[\\d.]+/g).map(Number);
            const light = (rgb) => rgb.slice(0, 3).map((c) => c / 255)
              .map((c) => c <= 0.04045 ? c / 12.92 : ((c + 0.055) / 1.055) ** 2.4)
              .reduce((sum, c, i) => sum + c * [0.2126, 0.7152, 0.0722][i], 0);
            let behind = item;
            while (behind.parentElement && numbers(getComputedStyle(behind).backgroundColor)[3] === 0)
              behind = behind.parentElement;
            const ink = light(numbers(getComputedStyle(item).color));
            const paper = light(numbers(getComputedStyle(behind).backgroundColor));
            return (Math.max(ink, paper) + 0.05) / (Math.min(ink, paper) + 0.05);
            """,
            selector,
        )
    )


@pytest.mark.driver
def test_notes_and_the_frames_beside_each_other_are_told(tmp_path: Path) -> None:
    file = tmp_path / "several.wend"
    shutil.copy(DATA / "platform.wend", file)
    path = frame_path(file, 8)
    records.NOTE.keep(path, Note(HOSTILE, Subject("pass", "0")))
    export("html", _document(path), tmp_path / "page.html", path)
    text = (tmp_path / "page.html").read_text(encoding="utf-8")
    over_time = text[text.index('<section id="over-time"') : text.index('<section id="memory"')]
    assert "Frame 5 is slow" in over_time and "about frame 8 of 8" in over_time
    assert over_time.count("<tr>") == 9 and over_time.count("slow ") >= 1
    notes = text[text.index('<section id="notes"') : text.index('<section id="over-time"')]
    assert f"pass {load(path).passes.names[0]}" in notes
    assert HOSTILE not in text and "&lt;b&gt;tram" in notes
