"""Pages in a real browser: what is drawn is held against what is known of the model."""

import json
import os
import re
import shutil

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from bolvek.demo.pieces import block, globe
from bolvek.formats import write_model
from bolvek.formats.soup import Parts
from bolvek.mesh import Mesh
from bolvek.report.page.pack import Packer, Unpacker

CHROMIUM = next((p for p in map(shutil.which, ("chromium", "chromium-browser")) if p), None)
NEEDED = os.environ.get("BOLVEK_NEEDS_BROWSER") == "1"
in_a_browser = pytest.mark.skipif(CHROMIUM is None and not NEEDED, reason="no Chromium on this system")
SOFTWARE = ["--no-sandbox", "--use-gl=angle", "--use-angle=swiftshader", "--enable-unsafe-swiftshader"]
VIEW = "window.bolvekPage.viewers.get('model-1')"


# ---- packing ----


@given(st.integers(0, 2**32 - 1), st.integers(1, 300))
def test_what_is_packed_comes_back_within_half_a_step(seed, count):
    rng = np.random.default_rng(seed)
    points = rng.normal(size=(40, 3)) * rng.uniform(0.01, 500, 3) + rng.uniform(-1e4, 1e4, 3)
    mesh = Mesh(points, np.array([rng.choice(40, 3, replace=False) for _ in range(count)]))
    values = np.where(rng.random(count) < 0.2, np.nan, rng.normal(size=count) * 30)
    parts = rng.integers(0, 65_536, count)
    packer = Packer()
    about, told = packer.mesh(mesh), packer.values(values)
    packer.numbers(parts)
    back = Unpacker(packer.text())
    vertices, faces = back.mesh(about)
    assert np.all(np.abs(vertices[faces] - mesh.corners) <= 0.501 * np.array(about["step"]) + 1e-9)
    found = back.values(count, told)
    assert np.array_equal(np.isnan(found), np.isnan(values))
    assert np.all(np.abs(found - values)[~np.isnan(values)] <= 0.501 * told["step"] + 1e-9)
    assert np.array_equal(back.deltas(count), parts)


# ---- in a browser ----


@pytest.fixture(scope="module")
def chromium():
    from playwright.sync_api import sync_playwright

    with sync_playwright() as play:
        browser = play.chromium.launch(executable_path=CHROMIUM, args=SOFTWARE)
        yield browser
        browser.close()


@pytest.fixture
def shown(chromium):
    """Open a page from the disk, the network off; nothing may be asked for, nothing may go wrong."""
    wrong, contexts = [], []

    def show(path, ready=".live", before="", **more):
        context = chromium.new_context(viewport={"width": 1280, "height": 800}, offline=True, **more)
        contexts.append(context)
        page = context.new_page()
        page.on("console", lambda m: wrong.append(m.text) if m.type in ("error", "warning") else None)
        page.on("pageerror", lambda e: wrong.append(str(e)))
        page.on("dialog", lambda d: wrong.append(d.message))
        page.on("request", lambda r: None if r.url.startswith(("file:", "data:", "blob:")) else wrong.append(r.url))
        if before:
            page.add_init_script(before)
        page.goto(path.resolve().as_uri())
        page.wait_for_selector(ready, timeout=60_000)
        return page

    yield show
    for context in contexts:
        context.close()
    assert [w for w in wrong if "GPU stall" not in w] == []


def row_of(page, height=0.5):
    """Pixels (W, 4) of one row of the view, from the top; and how many millimetres one is wide (seen in parallel)."""
    code = f"""() => {{ const v = {VIEW}; v.draw(1); const gl = v.stage.gl, c = v.canvas;
        const px = new Uint8Array(4 * c.width);
        gl.readPixels(0, Math.floor(c.height * {1 - height}), c.width, 1, gl.RGBA, gl.UNSIGNED_BYTE, px);
        return [Array.from(px), v.camera.mmPerHeight / c.height]; }}"""
    pixels, mm = page.evaluate(code)
    return np.array(pixels).reshape(-1, 4).astype(float), mm


def run_of(mask):
    """Lengths of the runs in which a mask holds."""
    edges = np.flatnonzero(np.diff(np.concatenate([[0], mask.astype(int), [0]])))
    return (edges[1::2] - edges[::2]).tolist()


def is_cut(pixels):
    """Pixels of material cut through: the red of the hatch."""
    return (pixels[:, 0] > 170) & (pixels[:, 1] < 140) & (pixels[:, 2] < 120)


def settled(page):
    """Wait until nothing moves any more."""
    for _ in range(600):
        if page.evaluate(f"() => !{VIEW}.flight && !{VIEW}.waiting"):
            return
        page.wait_for_timeout(50)
    raise AssertionError("the view never came to rest")


def square_on(page, name="front"):
    page.evaluate(f"() => {{ const v = {VIEW}; v.bedShown = false; v.camera.parallel = true; v.camera.look('{name}'); "
                  "v.fitAll(); }")  # fmt: skip


def test_without_a_browser_the_page_is_a_report(bolvek, tmp_path):
    """Hostile names are text wherever they stand, everything that is said stands in the page, nothing is fetched."""
    name = "<img src=x onerror=alert(1)></script><b>\"'&"
    cube = block((0, 0, 0), (20, 20, 20))
    write_model(tmp_path / "cube.3mf", cube, parts=Parts([name], np.zeros(12, np.int32)))
    bolvek("survey", "cube.3mf", "--page", "cube.html")
    page = (tmp_path / "cube.html").read_text()
    assert "<img src=x" not in page and page.count("</script>") == 3
    assert "SHA-256" in page and "sound" in page and "20.00 x 20.00 x 20.00 mm" in page
    assert "://" not in re.sub(r"data:image/png;base64,[^\"]*", "", page)
    assert bolvek("survey", "cube.3mf", "--page", "cube.html", expect=3).stderr.count("exists already") == 1
    bolvek("survey", "cube.3mf", "--page", "cube.htm", expect=2)


@in_a_browser
def test_a_cube_is_as_wide_as_it_is_and_turns(bolvek, tmp_path, shown):
    write_model(tmp_path / "cube.stl", block((0, 0, 0), (20, 20, 20)))
    bolvek("survey", "cube.stl", "--page", "cube.html")
    page = shown(tmp_path / "cube.html")
    square_on(page)
    pixels, mm = row_of(page)
    assert run_of(pixels[:, 3] > 200)[0] * mm == pytest.approx(20, rel=0.02)
    assert pixels[0, 3] == 0
    before = page.evaluate(f"() => {VIEW}.camera.yaw")
    box = page.locator("canvas.sight").bounding_box()
    page.mouse.move(box["x"] + 300, box["y"] + 200)
    page.mouse.down()
    page.mouse.move(box["x"] + 400, box["y"] + 200, steps=4)
    page.mouse.up()
    assert page.evaluate(f"() => {VIEW}.camera.yaw") < before - 0.1
    turned, mm = row_of(page)
    assert run_of(turned[:, 3] > 200)[0] * mm > 21


@in_a_browser
def test_the_cut_shows_the_wall_and_the_room(bolvek, tmp_path, shown):
    write_model(tmp_path / "ball.stl", globe(10, (3, 0, 0), 96).joined(globe(8, (3, 0, 0), 96).turned()))
    bolvek("survey", "ball.stl", "--page", "ball.html")
    page = shown(tmp_path / "ball.html")
    square_on(page)
    page.locator("select[aria-label=across]").select_option("y")
    pixels, mm = row_of(page)
    walls = [n * mm for n in run_of(is_cut(pixels)) if n > 2]
    assert sum(walls) == pytest.approx(4, rel=0.05)
    middle = pixels[len(pixels) // 2]
    assert middle[2] > middle[0]  # the blue of rooms
    page.locator("input[aria-label='where it is cut']").fill("950")  # beyond the room: material through and through
    pixels, mm = row_of(page)
    assert not is_cut(pixels).any() or max(run_of(is_cut(pixels))) * mm == pytest.approx(
        2 * np.sqrt(100 - 81), rel=0.05
    )
    assert "y = " in page.locator(".panel-cut output").inner_text()


@in_a_browser
def test_values_are_read_under_the_pointer_and_places_are_flown_to(bolvek, tmp_path, shown):
    plate = block((0, 0, 0), (40, 30, 0.6)).joined(block((0, 0, 10), (40, 30, 15)))
    write_model(tmp_path / "plates.stl", plate)
    bolvek("walls", "plates.stl", "--least-wall", "1mm", "--page", "p.html", "--json", "p.json", expect=1)
    zone = json.loads((tmp_path / "p.json").read_text())["models"][0]["walls"]["zones"][0]
    page = shown(tmp_path / "p.html")
    link = page.locator(".findings a", has_text="0.600 mm,").first
    number = int(link.get_attribute("data-place"))
    link.click()
    settled(page)
    x, y = page.evaluate(f"""() => {{ const v = {VIEW}, p = v.places.places[{number - 1}];
        const at = v.camera.project(p.where, v.wide); return [at.x, at.y]; }}""")
    assert abs(x) < 0.02 and abs(y) < 0.02
    where = page.evaluate(f"() => {VIEW}.model.places[{number - 1}].where")
    assert where == pytest.approx(zone["where_mm"])
    page.evaluate(f"() => {{ {VIEW}.setCut(null); }}")
    page.locator("button", has_text="below").click()
    settled(page)
    box = page.locator("canvas.sight").bounding_box()
    page.mouse.move(box["x"] + box["width"] / 2 + 30, box["y"] + box["height"] / 2 + 20)
    page.wait_for_selector(".tip:not([hidden])")
    assert float(re.search(r"wall ([\d.]+) mm", page.locator(".tip").inner_text())[1]) == pytest.approx(0.6, abs=0.001)
    page.keyboard.press("Tab")
    page.locator("canvas.sight").press("n")
    assert "1 of" in page.locator(".status").inner_text() or "of" in page.locator(".status").inner_text()


@in_a_browser
def test_lengths_angles_and_diameters(bolvek, tmp_path, shown):
    cube = block((0, 0, 0), (20, 20, 20))
    hollow = cube.joined(block((3, 3, 3), (17, 17, 17)).turned())
    write_model(tmp_path / "hollow.stl", hollow)
    bolvek(
        "drain",
        "hollow.stl",
        "--at",
        "10,10,20",
        "--diameter",
        "6mm",
        "--sides",
        "48",
        "-o",
        "d.stl",
        "--page",
        "d.html",
    )
    page = shown(tmp_path / "d.html")
    square_on(page)
    settled(page)

    def click(corner):
        x, y = page.evaluate(f"""() => {{ const v = {VIEW}; const at = v.camera.project(
            {list(corner)}.map((c, a) => c - v.centre[a]), v.wide);
            const b = v.canvas.getBoundingClientRect();
            return [b.left + (0.5 + 0.5 * at.x) * b.width, b.top + (0.5 - 0.5 * at.y) * b.height]; }}""")
        page.mouse.click(x, y)

    page.locator("select[aria-label=measure]").select_option("length")
    click((0.05, 0, 0.05))
    click((19.95, 0, 0.05))
    assert float(page.locator(".measured").inner_text().split()[0]) == pytest.approx(20, rel=0.005)
    click((19.95, 0, 19.95))
    assert float(page.locator(".measured").inner_text().split()[0]) == pytest.approx(90, abs=0.1)
    page.locator("select[aria-label=measure]").select_option("rim")
    page.evaluate(f"() => {{ const v = {VIEW}; v.camera.look('top'); v.change(); }}")
    settled(page)
    click((10, 13.1, 20))
    assert float(re.search(r"diameter ([\d.]+)", page.locator(".measured").inner_text())[1]) == pytest.approx(
        6, rel=0.01
    )


@in_a_browser
def test_before_and_after_parts_and_pieces(bolvek, tmp_path, shown):
    two = block((0, 0, 0), (10, 10, 10)).joined(block((30, 0, 0), (40, 10, 10)))
    write_model(tmp_path / "two.stl", two)
    bolvek("scale", "two.stl", "--by", 2, "-o", "s.stl", "--page", "s.html")
    page = shown(tmp_path / "s.html")
    square_on(page)
    whole, mm = row_of(page)
    assert [round(n * mm) for n in run_of(whole[:, 3] > 200)] == [20, 20]
    page.locator(".panel-parts input[type=checkbox]").nth(0).uncheck()
    one, mm = row_of(page)
    assert [round(n * mm) for n in run_of(one[:, 3] > 200)] == [20]
    page.locator("button", has_text="show all").click()
    page.locator("select[aria-label='before or after']").select_option("before")
    square_on(page)
    old, mm = row_of(page)
    assert [round(n * mm) for n in run_of(old[:, 3] > 200)] == [10, 10]
    page.locator("select[aria-label='before or after']").select_option("both")
    assert page.evaluate(f"() => {VIEW}.windows.length") == 2

    write_model(tmp_path / "rod.stl", block((0, 0, 0), (10, 10, 40)))
    bolvek("cut", "rod.stl", "--plane", "z=20mm", "-o", "cut/", "--page", "cut.html")
    page = shown(tmp_path / "cut.html")
    square_on(page)
    assert run_of(column_of(page) > 200)[0] > 0 and len(run_of(column_of(page) > 200)) == 1
    page.locator("input[aria-label='pulled apart']").fill("100")
    assert len(run_of(column_of(page) > 200)) == 2


def column_of(page):
    """How solid the pixels of the middle column are."""
    code = f"""() => {{ const v = {VIEW}; v.draw(1); const gl = v.stage.gl, c = v.canvas;
        const px = new Uint8Array(4 * c.height);
        gl.readPixels(Math.floor(c.width / 2), 0, 1, c.height, gl.RGBA, gl.UNSIGNED_BYTE, px);
        return Array.from(px).filter((_, i) => i % 4 === 3); }}"""
    return np.array(page.evaluate(code))


@in_a_browser
def test_layers_are_cut_where_the_slider_stands(bolvek, tmp_path, shown):
    steps = block((0, 0, 0), (30, 30, 10)).joined(block((0, 0, 10.5), (10, 30, 20)))
    write_model(tmp_path / "steps.stl", steps)
    bolvek("layers", "steps.stl", "--layer", "0.5mm", "--page", "l.html", expect=1)
    page = shown(tmp_path / "l.html")
    page.locator("input[aria-label=layer]").fill("30")
    text = page.locator(".panel-layers output").inner_text()
    assert "layer 31 of 40" in text and "300.0 mm2" in text
    square_on(page, "top")
    pixels, mm = row_of(page)
    assert sum(n * mm for n in run_of(is_cut(pixels)) if n > 2) == pytest.approx(10, rel=0.06)


@in_a_browser
def test_the_index_sorts_and_filters_and_a_folder_has_a_page_each(bolvek, tmp_path, shown):
    write_model(tmp_path / "in/a.stl", block((0, 0, 0), (9, 9, 9)))
    write_model(tmp_path / "in/b.stl", globe(5, (0, 0, 0), 16))
    write_model(tmp_path / "in/open.stl", globe(5, (0, 0, 0), 12).picked(slice(0, 60)))
    (tmp_path / "in/bad.stl").write_bytes(b"no")
    bolvek("survey", "in/", "--page", "all.html", expect=3)
    page = shown(tmp_path / "all.html", ready="nav.index")
    names = lambda: page.locator("#models tbody tr:visible td:nth-child(2)").all_inner_texts()  # noqa: E731
    assert len(names()) == 4
    page.locator("th button", has_text="triangles").click()
    first = [n for n in names() if n.endswith(".stl") and "/" not in n]
    page.locator("th button", has_text="triangles").click()
    assert [n for n in names() if n.endswith(".stl") and "/" not in n] == first[::-1]
    page.locator("#only").select_option("sound")
    assert sorted(names()) == ["a.stl", "b.stl"] and "2 of 4" in page.locator("#shown").inner_text()
    page.wait_for_selector(".live")
    bolvek("page", "in/a.stl", "in/b.stl", "-o", "pages/")
    page = shown(tmp_path / "pages/index.html", ready="nav.index")
    page.locator("a", has_text="b.stl").click()
    page.wait_for_selector(".live")
    assert page.url.endswith("b.stl.html")


@in_a_browser
def test_hostile_names_stay_text_and_without_webgl_the_stills_stand_there(bolvek, tmp_path, shown):
    name = "<img src=x onerror=alert(1)></script>\"'"
    two = block((0, 0, 0), (9, 9, 9)).joined(block((20, 0, 0), (29, 9, 9)))
    write_model(tmp_path / "two.3mf", two, parts=Parts([name, "other"], np.repeat([0, 1], 12).astype(np.int32)))
    bolvek("survey", "two.3mf", "--page", "two.html")
    page = shown(tmp_path / "two.html")
    assert name in page.locator(".panel-parts").inner_text()
    assert page.locator("img[src=x]").count() == 0
    none = "HTMLCanvasElement.prototype.getContext = function () { return null; }"
    page = shown(tmp_path / "two.html", ready=".still img", before=none)
    page.wait_for_selector("text=still pictures stand in")
    assert page.locator(".still img").nth(0).evaluate("i => i.naturalWidth") > 500
    page = shown(tmp_path / "two.html", ready=".still img", java_script_enabled=False)
    assert page.locator(".still img").nth(1).is_visible() and not page.locator("#look").is_visible()


@in_a_browser
def test_it_prints_on_a_few_sheets_and_is_dark_where_asked(bolvek, tmp_path, shown):
    write_model(tmp_path / "ball.stl", globe(10, (0, 0, 0), 48).joined(globe(8, (0, 0, 0), 48).turned()))
    bolvek("page", "ball.stl", "-o", "ball.html", expect=1)
    page = shown(tmp_path / "ball.html", color_scheme="dark")
    assert page.evaluate("() => getComputedStyle(document.body).backgroundColor") == "rgb(29, 27, 26)"
    pdf = page.pdf(prefer_css_page_size=True)
    assert 1 <= len(re.findall(rb"/Type\s*/Page\b", pdf)) <= 4
    box = re.search(rb"/MediaBox\s*\[\s*0\s+0\s+([\d.]+)\s+([\d.]+)", pdf)
    assert [float(x) for x in box.groups()] == pytest.approx([595, 842], abs=2)
    assert page.locator(".printed").evaluate("i => i.naturalWidth") > 300
