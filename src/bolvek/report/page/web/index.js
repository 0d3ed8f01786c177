/* The page as a whole: light and dark, the list of models, views that start when they are looked at. */

const MOST_LIVE = 3;
const page = { viewers: new Map(), failed: "" };

function sortModels(column, button) {
  const body = document.querySelector("#models tbody");
  const down = button.getAttribute("aria-sort") === "up";
  const value = (row) => {
    const cell = row.cells[column];
    const number = Number(cell?.dataset.value ?? NaN);
    return Number.isNaN(number) ? (cell?.textContent ?? "") : number;
  };
  const order = (a, b) => (typeof a === "number" && typeof b === "number" ? a - b : String(a).localeCompare(String(b), "en", { numeric: true }));
  const rows = [...body.rows].sort((a, b) => (down ? -1 : 1) * order(value(a), value(b)));
  for (const other of document.querySelectorAll("#models th button")) other.removeAttribute("aria-sort");
  button.setAttribute("aria-sort", down ? "down" : "up");
  body.append(...rows);
}

function filterModels(verdict) {
  const rows = [...document.querySelectorAll("#models tbody tr")];
  for (const row of rows) row.hidden = verdict !== "" && row.dataset.verdict !== verdict;
  document.querySelector("#shown").textContent = `${rows.filter((r) => !r.hidden).length} of ${rows.length} models`;
}

function startIndex() {
  const only = document.querySelector("#only");
  if (!only) return;
  const verdicts = new Set([...document.querySelectorAll("#models tbody tr")].map((row) => row.dataset.verdict));
  for (const verdict of verdicts) only.append(el("option", { value: verdict }, verdict));
  only.addEventListener("change", () => filterModels(only.value));
  filterModels("");
  for (const button of document.querySelectorAll("#models th button")) {
    button.addEventListener("click", () => sortModels(Number(button.dataset.column), button));
  }
}

function startLook() {
  const button = document.querySelector("#look");
  let dark = matchMedia("(prefers-color-scheme: dark)").matches;
  const show = () => {
    document.documentElement.dataset.look = dark ? "dark" : "light";
    button.textContent = dark ? "light" : "dark";
    button.setAttribute("aria-pressed", String(dark));
    for (const viewer of page.viewers.values()) viewer.change();
  };
  button.addEventListener("click", () => {
    dark = !dark;
    show();
  });
  show();
}

async function startViewer(article, model, look) {
  if (page.viewers.has(model.id)) return;
  const viewer = new Viewer(article, model, look);
  page.viewers.set(model.id, viewer);
  try {
    await viewer.start();
  } catch (error) {
    page.failed = String(error);
    viewer.live?.remove();
    article.querySelector(".stage").append(el("p", { class: "quiet" }, "This browser shows no WebGL2 here: the still pictures stand in for the view."));
    return;
  }
  while (page.viewers.size > MOST_LIVE) {
    const [oldest, old] = page.viewers.entries().next().value;
    page.viewers.delete(oldest);
    old.stop();
  }
}

/** What is printed is the view as it stands. */
function printed() {
  for (const viewer of page.viewers.values()) {
    if (!viewer.stage) continue;
    viewer.draw(2);
    viewer.print?.remove();
    viewer.print = el("img", { class: "printed", alt: "the view as it stands", src: viewer.canvas.toDataURL("image/png") });
    viewer.live.prepend(viewer.print);
  }
}

function start() {
  document.documentElement.classList.add("scripted");
  const data = JSON.parse(document.querySelector("#data").textContent);
  startLook();
  startIndex();
  addEventListener("beforeprint", printed);
  if (data.models.length === 1) {
    page.ready = startViewer(document.querySelector("#model-1"), data.models[0], data.look);
    return;
  }
  const seen = new IntersectionObserver((entries) => {
    for (const entry of entries) {
      const model = data.models.find((m) => m.id === entry.target.closest("article").id);
      if (entry.isIntersecting) page.ready = startViewer(entry.target.closest("article"), model, data.look);
    }
  });
  for (const model of data.models) seen.observe(document.getElementById(model.id).querySelector(".stage"));
}

window.bolvekPage = page;
start();
