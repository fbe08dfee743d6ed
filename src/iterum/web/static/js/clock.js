/* The server's clock, which may run faster than this one. Countdowns never depend on the link. */

import { root } from "./page.js";
import { words } from "./words.js";

const begun = Date.now();
const speed = Number(root.dataset.speed || 1);
const serverMs = Number(root.dataset.now) * 1000;

function nowMs() {
  return serverMs + (Date.now() - begun) * speed;
}

function tick() {
  const clock = document.querySelector("[data-clock]");
  if (clock) {
    clock.textContent = new Date(nowMs()).toTimeString().slice(0, 5);
  }
  const heat = document.querySelector("[data-minutes-to]");
  if (heat) {
    const left = Math.ceil((heat.dataset.minutesTo * 1000 - nowMs()) / 60000);
    heat.firstChild.textContent = `${Math.max(0, left)} `;
  }
}

/* Seconds as minutes and seconds: 83 is 1:23. */
function spell(seconds) {
  const whole = Math.abs(Math.round(seconds));
  return `${Math.floor(whole / 60)}:${String(whole % 60).padStart(2, "0")}`;
}

function count() {
  for (const item of document.querySelectorAll("[data-until]")) {
    const left = item.dataset.until - nowMs() / 1000;
    item.textContent = left >= 0 ? spell(left) : words("{time} late", { time: spell(left) });
    item.parentNode.classList.toggle("check-late", left < 0);
  }
  for (const item of document.querySelectorAll("[data-count]")) {
    const left = item.dataset.count - ((Date.now() - begun) / 1000) * speed;
    if (left > 0) {
      item.textContent = spell(left);
    } else if (Number(item.dataset.count) > 0) {
      window.location.reload();
    }
  }
}

export function startClock() {
  setInterval(tick, speed > 1 ? 1000 : 15000);
  count();
  setInterval(count, 1000);
  document.addEventListener("htmx:afterSwap", count);
}
