"use strict";
// Everything can be read without this: it sorts, searches, and writes a person's verdicts down as pins.
document.documentElement.classList.add("scripted");

function valueOf(row, column) {
  const said = row.cells[column].dataset.v;
  const number = said === "" ? NaN : Number(said);
  return { said, number, empty: said === "" };
}

function sortBy(button) {
  const heading = button.closest("th"), table = heading.closest("table"), body = table.tBodies[0];
  const column = heading.cellIndex, down = heading.getAttribute("aria-sort") !== "descending";
  const rows = Array.from(body.rows, (row, place) => ({ row, place, ...valueOf(row, column) }));
  const numbers = rows.every((r) => r.empty || !Number.isNaN(r.number));
  const sign = (numbers ? down : !down) ? -1 : 1;  // numbers: the largest first; words: from a on
  rows.sort((a, b) => {
    if (a.empty !== b.empty) return a.empty ? 1 : -1;  // what is not known comes last, either way
    const order = numbers ? a.number - b.number : a.said < b.said ? -1 : a.said > b.said ? 1 : 0;
    return sign * order || a.place - b.place;
  });
  for (const th of heading.parentNode.cells) th.removeAttribute("aria-sort");
  heading.setAttribute("aria-sort", down ? "descending" : "ascending");
  const fragment = document.createDocumentFragment();
  for (const r of rows) fragment.append(r.row);
  body.append(fragment);
  showSome(table.closest(".table"));
}

// Of a long table the first rows that fit are laid out, so that sorting takes no time; a button shows the rest.
const LONG = 120;

function showSome(block, everything = false) {
  const more = block.querySelector("button.more");
  if (everything) block.dataset.all = "1";
  let fitting = 0;
  for (const row of block.querySelector("tbody").rows) {
    const fits = row.dataset.fits !== "0";
    fitting += fits;
    row.hidden = !fits || (!block.dataset.all && fitting > LONG);
  }
  if (more) {
    more.hidden = Boolean(block.dataset.all) || fitting <= LONG;
    more.textContent = `Show all ${fitting}`;
  }
}

function search(input) {
  const block = document.getElementById(input.dataset.searches), words = input.value.trim().toLowerCase().split(/\s+/);
  let shown = 0, all = 0;
  for (const row of block.querySelector("tbody").rows) {
    const text = row.dataset.text || (row.dataset.text = Array.from(row.cells, (c) => (c.querySelector("select") ? "" : c.textContent)).join(" ").toLowerCase());
    const fits = words.every((w) => text.includes(w));
    row.dataset.fits = fits ? "1" : "0";
    all += 1;
    shown += fits;
  }
  showSome(block);
  block.querySelector(".found").textContent = input.value.trim() ? `${shown} of ${all}` : "";
}

function quoted(text) {
  return JSON.stringify(text).replace(/\u007f/g, "\\u007F");
}

function writePins() {
  const lines = [];
  for (const select of document.querySelectorAll("select[data-pins]")) {
    select.closest("tr").classList.toggle("set", select.value !== "");
    if (select.value === "review") lines.push(`# review ${quoted(select.dataset.pins)}`, "");
    else if (select.value) lines.push("[[pin]]", `feature = ${quoted(select.dataset.pins)}`, `verdict = "${select.value}"`, 'because = ""  # say why', "");
  }
  document.getElementById("pin-lines").textContent = lines.length ? lines.join("\n") : "no column is set yet";
}

async function copy(button) {
  const text = button.parentNode.querySelector("pre").textContent, before = button.textContent;
  try {
    await navigator.clipboard.writeText(text);
    button.textContent = "Copied";
  } catch {  // a page from disk may not write to the clipboard: mark the lines, so that they can be copied by hand
    const range = document.createRange();
    range.selectNodeContents(button.parentNode.querySelector("pre"));
    const marked = getSelection();
    marked.removeAllRanges();
    marked.addRange(range);
    button.textContent = "Marked: press Ctrl+C";
  }
  setTimeout(() => { button.textContent = before; }, 2500);
}

// Along the curve: the set of each size, with what comes and goes.
function walk(block) {
  const points = JSON.parse(block.dataset.points), input = block.querySelector("input"), p = points[Number(input.value)];
  const count = `${p.size} feature${p.size === 1 ? "" : "s"}`;
  input.setAttribute("aria-valuetext", count);
  block.querySelector(".here").textContent = [count, p.score, p.cost, p.mark].filter(Boolean).join(" · ");
  const change = [["comes", p.comes], ["goes", p.goes]].filter(([, names]) => names.length).map(([word, names]) => `${word}: ${names.join(", ")}`);
  block.querySelector(".change").textContent = change.length ? `against the size before, ${change.join("; ")}` : "";
  block.querySelector(".set").textContent = p.features.join(", ") || "no feature";
  block.querySelector("pre").textContent = `${block.dataset.option} ${p.size}`;
}

// Who stays at a limit that the reader picks.
function limit(block) {
  const [choice, number] = [block.querySelector("select").selectedOptions[0], block.querySelector("input")];
  const { way, middle, option } = choice.dataset, upward = way === "higher" || way === "magnitude", code = block.querySelector(".code");
  const far = way === "magnitude" || way === "nearest", at = number.valueAsNumber, table = document.getElementById(block.dataset.table);
  block.querySelector(".side").textContent = `${far ? "distance " : ""}${upward ? "at least" : "at most"}`;
  let stay = 0, unknown = 0, all = 0;
  for (const row of table.querySelector("tbody").rows) {
    const said = row.cells[Number(choice.value)].dataset.v, value = far ? Math.abs(Number(said) - middle) + Number(middle) : Number(said);
    const known = said !== "", goes = !Number.isNaN(at) && known && (upward ? value < at : value > at);
    row.classList.toggle("goes", goes);
    all += 1; stay += !goes; unknown += !known;
  }
  code.hidden = Number.isNaN(at) || !option;
  block.querySelector("pre").textContent = `${option} ${number.value}`;
  block.querySelector(".stays").textContent = Number.isNaN(at) ? "" : `${stay} of ${all} stay${unknown ? `, ${unknown} of them not measured` : ""}`;
}

document.addEventListener("click", (event) => {
  const sorts = event.target.closest("button.sort"), copies = event.target.closest("button.copy");
  if (sorts) sortBy(sorts);
  if (copies) copy(copies);
  if (event.target.closest("button.more")) showSome(event.target.closest(".table"), true);
});
document.addEventListener("input", (event) => {
  if (event.target.dataset.searches) search(event.target);
  if (event.target.closest(".walk")) walk(event.target.closest(".walk"));
  if (event.target.closest(".limits")) limit(event.target.closest(".limits"));
});
document.addEventListener("change", (event) => {
  if (event.target.dataset.pins !== undefined) writePins();
});
addEventListener("beforeprint", () => {
  for (const block of document.querySelectorAll(".table")) showSome(block, true);
  for (const fold of document.querySelectorAll("details.fold:not([open])")) { fold.open = true; fold.dataset.shut = "1"; }
});
addEventListener("afterprint", () => {
  for (const fold of document.querySelectorAll("details.fold[data-shut]")) fold.open = false;
});
for (const block of document.querySelectorAll(".walk")) walk(block);
for (const block of document.querySelectorAll(".limits")) limit(block);
for (const block of document.querySelectorAll(".table")) if (block.querySelector("tbody").rows.length > LONG) showSome(block);
