/* The next pack in the page that stands: what a whole new page would cost is felt at sixty packs. */

import { restartDigits } from "./digits.js";

/* What differs from one page of Measure to the next. */
const PARTS = [".facts", ".places", "#main"];
let turned = false;

/* Go to another page of the same kind in place; as any link does where it is not of that kind. */
export async function turnTo(url) {
  const answer = await fetch(url).catch(() => null);
  const page = answer?.ok ? new DOMParser().parseFromString(await answer.text(), "text/html") : null;
  if (!page?.querySelector("[data-measure]") || !PARTS.every((part) => page.querySelector(part))) {
    location.href = url;
    return;
  }
  for (const part of PARTS) {
    document.querySelector(part).replaceWith(document.adoptNode(page.querySelector(part)));
  }
  document.title = page.title;
  window.htmx.process(document.getElementById("main"));
  restartDigits();
  turned = true;
  history.pushState(null, "", answer.url);
  window.scrollTo(0, 0);
  document.dispatchEvent(new Event("turned"));
}

/* Back leads to the page that was there, made anew. */
window.addEventListener("popstate", () => turned && location.reload());
