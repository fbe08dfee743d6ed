/* Single keys, driven by the list that the page of keys shows too. None acts while text is typed. */

import { KEYS } from "../keys.js";
import { pick, toNextLane } from "./batches.js";
import { put, rub, toCell } from "./digits.js";
import { isText, press, root } from "./page.js";
import { openPalette } from "./palette.js";
import { along, onRow, toGroup } from "./rows.js";

function step(by) {
  const links = [...document.querySelectorAll("[data-step]")];
  const here = links.findIndex((link) => link.hasAttribute("aria-current"));
  links[here + by]?.click();
  return true;
}

function focus(id) {
  const field = document.getElementById(id);
  field?.focus();
  field?.select();
  return Boolean(field);
}

function always(act) {
  return (...values) => {
    act(...values);
    return true;
  };
}

/* What an entry of the list may do: by its name, with its argument and the key. False where it has nothing to act on. */
const ACTS = {
  press: (ids) => ids.split(" ").some(press),
  step: (by) => step(Number(by)),
  along: (by) => along(Number(by)),
  batch: (by) => pick(Number(by)),
  cell: always((by) => toCell(Number(by))),
  digit: always((_argument, key) => put(key)),
  rub: always(() => rub()),
  row: (act) => onRow[act](),
  group: (_argument, key) => toGroup(key),
  lane: toNextLane,
  focus,
  palette: openPalette,
};

function isMeant(entry, event) {
  const name = event.key.length === 1 ? event.key.toLowerCase() : event.key;
  const there = event.target;
  return (
    entry.key === name &&
    (!entry.shift || event.shiftKey) &&
    (!entry.inside || there.matches(entry.inside)) &&
    (!entry.outside || !there.closest(entry.outside))
  );
}

/* Keys that a field does not take for text: in one for figures no letter is any that it names. */
function actsIn(field, key) {
  return key.length === 1 && (field.dataset.actsOn ?? "").includes(key.toLowerCase());
}

function act(entry, event) {
  const [name, ...rest] = entry.does.split(" ");
  return ACTS[name](rest.join(" "), event.key);
}

/* A scanner types the address of a label and Enter: the pack is opened, nothing of it lands in a cell. Only what goes on
   as an address does is taken for one, so that no digit and no key of ours is swallowed. */
const SCAN_GAP_MS = 3000;
const SCHEMES = ["https://", "http://"];
let scanned = "";
let lastScan = 0;

function goesOn(text) {
  const told = text.toLowerCase();
  return SCHEMES.some((scheme) => scheme.startsWith(told) || told.startsWith(scheme));
}

function onScan(event) {
  if (isText(event.target) || event.ctrlKey || event.metaKey || event.altKey || event.key === "Shift") {
    return;
  }
  const before = event.timeStamp - lastScan < SCAN_GAP_MS ? scanned : "";
  const ends = event.key === "Enter" && before.length > SCHEMES[0].length;
  if (!ends && (event.key.length > 1 || !goesOn(before + event.key))) {
    scanned = "";
    return;
  }
  event.preventDefault();
  event.stopImmediatePropagation();
  lastScan = event.timeStamp;
  if (event.key === "Enter") {
    const hit = before.match(/\/p\/([^/?#\s]+)$/i);
    scanned = "";
    if (hit) {
      window.location.href = `/p/${hit[1]}`;
    }
    return;
  }
  scanned = before + event.key;
}

function showWayToAct() {
  document.getElementById("to-primary").hidden = !document.getElementById("primary");
}

export function startKeys() {
  showWayToAct();
  document.addEventListener("turned", showWayToAct);
  document.addEventListener("keydown", onScan, { capture: true });
  const list = [...KEYS].sort((one, other) => Number(other.shift) - Number(one.shift));
  document.addEventListener("keydown", (event) => {
    const modified = event.ctrlKey || event.metaKey || event.altKey;
    const off = root.dataset.keys !== "on" && !event.target.matches("[data-digits]");
    if (off || modified || event.defaultPrevented || (isText(event.target) && !actsIn(event.target, event.key))) {
      return;
    }
    if (list.some((entry) => isMeant(entry, event) && act(entry, event))) {
      event.preventDefault();
    }
  });
}
