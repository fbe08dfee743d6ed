/* One key and a few letters reach anything: packs, pages, batches in hand, and the acts of the page. */

import { words } from "./words.js";

const MOST = 9;
let places = [];

/* Letters in their order, the earlier and closer together the better; -1 where they are not there. */
function fits(words, typed) {
  const text = words.toLowerCase();
  const whole = text.indexOf(typed);
  if (whole >= 0) {
    return whole === 0 || text[whole - 1] === " " ? whole : whole + 20;
  }
  let at = -1;
  let far = 100;
  for (const letter of typed.replace(/\s/g, "")) {
    const next = text.indexOf(letter, at + 1);
    if (next < 0) {
      return -1;
    }
    far += next - at;
    at = next;
  }
  return far;
}

function actsHere() {
  const seen = [...document.querySelectorAll("main button[id], main a[id][href]")];
  return seen
    .filter((item) => item.checkVisibility() && !item.closest("dialog"))
    .map((item) => ({ name: item.innerText.replace(/\s+/g, " ").trim(), kind: words("on this page"), press: item }));
}

function best(typed) {
  const hits = [...actsHere(), ...places]
    .map((place) => ({ place, rank: typed ? fits(place.name, typed) : 0 }))
    .filter((item) => item.rank >= 0);
  hits.sort((one, other) => one.rank - other.rank);
  return hits.slice(0, MOST).map((item) => item.place);
}

function leaveFor(dialog, place) {
  dialog.close();
  if (place?.press) {
    place.press.click();
  } else if (place) {
    window.location.href = place.to;
  }
}

function draw(dialog, picked) {
  const field = dialog.querySelector("input");
  const list = dialog.querySelector("ul");
  const hits = best(field.value.trim().toLowerCase());
  const at = Math.min(Math.max(picked, 0), Math.max(hits.length - 1, 0));
  list.replaceChildren(
    ...hits.map((place, index) => {
      const row = document.createElement("li");
      row.id = `palette-${index}`;
      row.setAttribute("role", "option");
      row.setAttribute("aria-selected", String(index === at));
      const kind = document.createElement("small");
      kind.textContent = place.kind;
      row.append(place.name, " ", kind);
      row.addEventListener("click", () => leaveFor(dialog, place));
      return row;
    }),
  );
  field.setAttribute("aria-activedescendant", hits.length ? `palette-${at}` : "");
  return { at, hits };
}

export function openPalette() {
  const dialog = document.getElementById("palette");
  if (!dialog) {
    return false;
  }
  let shown = { at: 0, hits: [] };
  const field = dialog.querySelector("input");
  field.value = "";
  field.oninput = () => {
    shown = draw(dialog, 0);
  };
  field.onkeydown = (event) => {
    if (event.key === "ArrowDown" || event.key === "ArrowUp") {
      event.preventDefault();
      shown = draw(dialog, shown.at + (event.key === "ArrowDown" ? 1 : -1));
    } else if (event.key === "Enter") {
      event.preventDefault();
      leaveFor(dialog, shown.hits[shown.at]);
    }
  };
  dialog.showModal();
  field.focus();
  shown = draw(dialog, 0);
  fetch("/places.json")
    .then((answer) => answer.json())
    .then((told) => {
      places = told;
      shown = draw(dialog, 0);
    })
    .catch(() => {});
  return true;
}
