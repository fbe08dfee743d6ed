/* A page that watches a charge stays awake, and says when it last heard Iterum. */

import { root } from "./page.js";
import { words } from "./words.js";

const QUIET_MS = 6000;
let heard = Date.now();

async function stayAwake() {
  if (!navigator.wakeLock || document.hidden || !document.querySelector("[data-awake]")) {
    return;
  }
  await navigator.wakeLock.request("screen").catch(() => {});
}

function sayWhenHeard() {
  const quietMs = Date.now() - heard;
  let sign = document.getElementById("unheard");
  if (quietMs < QUIET_MS || !document.querySelector("[data-awake]")) {
    sign?.remove();
    return;
  }
  if (!sign) {
    sign = document.createElement("p");
    sign.id = "unheard";
    sign.className = "alarm alarm-care";
    sign.setAttribute("role", "status");
    document.getElementById("main").prepend(sign);
  }
  const seconds = Math.round(quietMs / 1000);
  sign.textContent = words("Iterum has not answered for {seconds} s: look at the charger itself.", { seconds });
  root.dataset.link = "lost";
}

export function startWake() {
  document.addEventListener("htmx:afterOnLoad", () => {
    heard = Date.now();
  });
  document.addEventListener("visibilitychange", stayAwake);
  setInterval(sayWhenHeard, 1000);
  stayAwake();
}
