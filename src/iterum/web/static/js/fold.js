/* A long page on a phone: what begins below the first screen is folded to its heading, and opens at a touch. */

const PHONE = "(max-width: 759px)";
const MOST_SCREENS = 2;

function headed(sheet) {
  return sheet.querySelector(":scope > h2");
}

/* What somebody is at, or must see, stays open. */
function isAsked(sheet) {
  const target = window.location.hash && document.getElementById(window.location.hash.slice(1));
  const kept = sheet.querySelector("#primary, #record-check, .fault, [aria-invalid=true], [role=alert], [hx-get]");
  return Boolean(kept) || sheet.contains(document.activeElement) || (target && sheet.contains(target));
}

function open(sheet, isOpen = true) {
  sheet.classList.toggle("folded", !isOpen);
  headed(sheet)?.querySelector(".fold-button")?.setAttribute("aria-expanded", String(isOpen));
}

function fold(sheet) {
  const heading = headed(sheet);
  const button = document.createElement("button");
  button.type = "button";
  button.className = "fold-button";
  button.append(...heading.childNodes);
  heading.append(button);
  button.addEventListener("click", () => open(sheet, sheet.classList.contains("folded")));
  open(sheet, false);
}

function openTarget() {
  const there = document.getElementById(window.location.hash.slice(1))?.closest(".folded");
  if (there) {
    open(there);
    there.scrollIntoView();
  }
}

export function startFolding() {
  if (!window.matchMedia(PHONE).matches) {
    /* On a phone the keys would cover what the page begins with. */
    document.querySelector("[data-focus-at-desk]")?.focus();
    return;
  }
  const sheets = [...document.querySelectorAll("main .sheet")].filter(headed);
  const below = sheets.filter((sheet) => sheet.getBoundingClientRect().top > window.innerHeight && !isAsked(sheet));
  if (document.documentElement.scrollHeight > MOST_SCREENS * window.innerHeight) {
    below.forEach(fold);
  }
  window.addEventListener("hashchange", openTarget);
}
