"""The pages in a real browser (Debian's Chromium, headless): a report is looked at closely, nothing in it but its own script is run,
and the handbook's pages show what they say at every width. Left out where no Chromium is installed."""

from __future__ import annotations

import shutil
from collections.abc import Iterator
from pathlib import Path

import pytest
from selenium.webdriver import ActionChains, Chrome, ChromeOptions, ChromeService, Keys
from selenium.webdriver.common.by import By

from eskret.workflow.faces.handbook import write_handbook
from tests.test_cli import call

CHROMIUM, DRIVER = shutil.which("chromium"), shutil.which("chromedriver")
pytestmark = [pytest.mark.skipif(not (CHROMIUM and DRIVER), reason="no Chromium is installed"), pytest.mark.xdist_group("browser")]
ARGUMENTS = (
    "--headless --no-sandbox --disable-gpu --disable-quic --no-first-run --disable-background-networking --disable-component-update "
    "--disable-sync --window-size=1280,900"
)


@pytest.fixture(scope="module")
def chromium(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Chrome]:
    options = ChromeOptions()
    options.binary_location = str(CHROMIUM)
    for one in (*ARGUMENTS.split(), f"--user-data-dir={tmp_path_factory.mktemp('chromium')}"):
        options.add_argument(one)
    options.set_capability("goog:loggingPrefs", {"browser": "ALL"})
    driver = Chrome(options, ChromeService(str(DRIVER)))
    yield driver
    driver.quit()


def complaints(chromium: Chrome) -> list[str]:
    return [one["message"] for one in chromium.get_log("browser") if "favicon" not in one["message"]]


def view(svg: object) -> list[float]:
    return [float(x) for x in svg.get_dom_attribute("viewBox").split()]  # type: ignore[attr-defined]


def test_a_map_of_a_report_is_looked_at_closely(chromium: Chrome, demo: Path) -> None:
    assert call("run", demo / "returns.toml", "--report", demo / "report.html", "-q")[0] == 0
    chromium.get((demo / "report.html").as_uri())
    assert complaints(chromium) == []
    (svg,) = chromium.find_elements(By.CSS_SELECTOR, "figure.map > svg:not(.spread)")
    nearer, farther, whole = chromium.find_elements(By.CSS_SELECTOR, ".tools button")
    bar = svg.find_element(By.CSS_SELECTOR, ".scale text")
    assert view(svg) == [0, 0, 720, 440] and bar.text == "10 km" and not farther.is_enabled() and not whole.is_enabled()
    for _ in range(3):
        nearer.click()
    x, y, wide, high = view(svg)
    assert wide == pytest.approx(720 / 1.6**3) and high / wide == pytest.approx(440 / 720)
    assert (x + wide / 2, y + high / 2) == pytest.approx((360, 220)), "the middle stays where it is"
    assert bar.text == "2 km" and farther.is_enabled()
    # the bar is as long on the screen as it says
    path = svg.find_element(By.CSS_SELECTOR, ".scale path")
    metres = float(svg.find_element(By.CSS_SELECTOR, ".scale").get_dom_attribute("data-metres")) * wide / svg.size["width"]
    assert path.size["width"] * metres == pytest.approx(2000, rel=0.02)
    ActionChains(chromium).drag_and_drop_by_offset(svg, 60, -40).perform()
    moved = view(svg)
    assert moved[0] < x and moved[1] > y and moved[2:] == [wide, high]
    svg.send_keys(Keys.ARROW_RIGHT, "+")
    assert view(svg)[2] < wide
    svg.send_keys("0")
    assert view(svg) == [0, 0, 720, 440] and bar.text == "10 km"
    # the wheel is the page's until the map was chosen
    chromium.execute_script("document.activeElement.blur()")
    ActionChains(chromium).scroll_from_origin(origin_of(svg), 0, -120).perform()
    assert view(svg)[2] == 720
    svg.click()
    ActionChains(chromium).scroll_from_origin(origin_of(svg), 0, -120).perform()
    assert view(svg)[2] < 720
    assert len(chromium.find_elements(By.CSS_SELECTOR, ".spread rect")) > 10
    # nothing runs beyond the right edge, however narrow the window
    for width in (1280, 700):
        chromium.set_window_size(width, 900)
        assert chromium.execute_script("return document.querySelector('figure.map').getBoundingClientRect().right <= innerWidth")


def origin_of(element: object) -> object:
    from selenium.webdriver.common.actions.wheel_input import ScrollOrigin

    return ScrollOrigin.from_element(element)  # type: ignore[arg-type]


def test_nothing_but_its_own_script_is_run_in_a_report(chromium: Chrome, demo: Path) -> None:
    """Data that is meant to be code is text; and where it were none, the page's policy would not let it run."""
    (demo / "bad.csv").write_text('name,x,y\n"<img src=x onerror=document.title=1>",1,2\n"</svg><script>document.title=2</script>",3,4\n')
    (demo / "bad.toml").write_text(
        'eskret = 1\ntitle = "</title><script>document.title=3</script>"\nsummary = "<script>document.title=4</script>"\n'
        '[[steps]]\nid = "a"\nuse = "load_coordinates"\nfiles = ["bad.csv"]\ncrs = "EPSG:32626"\nx = "x"\ny = "y"\n'
        '[steps.style.a]\nby = "values"\nfield = "name"\n'
        '[[steps]]\nid = "out"\nuse = "save"\nfrom = "a"\nto = "out/bad.gpkg"\n'
    )
    code, _, said = call("run", demo / "bad.toml", "--report", demo / "bad.html")
    assert code == 0, said
    chromium.get((demo / "bad.html").as_uri())
    assert chromium.title == "</title><script>document.title=3</script>" and complaints(chromium) == []
    assert len(chromium.find_elements(By.CSS_SELECTOR, "script")) == 1 and not chromium.find_elements(By.CSS_SELECTOR, "img")
    page = (demo / "bad.html").read_text()
    (demo / "worse.html").write_text(
        page.replace("<main>", "<main><script>document.title='5'</script><img src=x onerror=document.title=6>", 1)
    )
    chromium.get((demo / "worse.html").as_uri())
    assert chromium.title not in ("5", "6"), "the control: without the policy it would be"
    assert any("Content Security Policy" in one for one in complaints(chromium))
    chromium.execute_script("0")
    (demo / "open.html").write_text("<main><script>document.title='5'</script></main>")
    chromium.get((demo / "open.html").as_uri())
    assert chromium.title == "5"


def test_the_handbooks_pages_show_what_they_say(chromium: Chrome, tmp_path: Path) -> None:
    first = write_handbook(tmp_path)
    chromium.set_window_size(1280, 900)
    chromium.get(first.as_uri())
    links = [a.get_attribute("href") for a in chromium.find_elements(By.CSS_SELECTOR, "main a")]
    assert len(links) > 50
    for width in (1280, 480):
        chromium.set_window_size(width, 900)
        for name in ("clip", "join_table", "publish", "draft_words", "compare"):
            chromium.get((tmp_path / f"{name}.html").as_uri())
            assert complaints(chromium) == [], name
            beyond = chromium.execute_script("return document.documentElement.scrollWidth - document.documentElement.clientWidth")
            assert beyond <= 0 or name == "publish", (name, width, beyond)
            for picture in chromium.find_elements(By.CSS_SELECTOR, ".tried svg"):
                assert picture.size["width"] > 200 and picture.size["height"] > 120
    chromium.set_window_size(1280, 900)
    chromium.get((tmp_path / "clip.html").as_uri())
    assert [one.text for one in chromium.find_elements(By.CSS_SELECTOR, ".side")] == ["Entering · beds: 6 areas", "Leaving · beds: 4 areas"]
    assert "2 · lies outside the area" in chromium.find_element(By.CSS_SELECTOR, ".help ul").text
