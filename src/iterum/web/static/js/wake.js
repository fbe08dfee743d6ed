/* A page that watches a charge stays awake, and says when it last heard Iterum. */

import { root } from "./page.js";

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
  sign.textContent = `Iterum was not heard for ${Math.round(quietMs / 1000)} s: look at the charger itself.`;
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
