/* Batches of the day strip: picked by arrows, dragged to another time or channel. */

import { csrf, press } from "./page.js";

const DRAGGED_PX = 6;
const bars = [...document.querySelectorAll(".strip-picture [data-batch]")];

/* Go to the batch before or after the chosen one; false where no strip is seen. */
export function pick(by) {
  const seen = bars.filter((bar) => bar.getClientRects().length && bar.closest("svg").getClientRects()[0].width);
  if (!seen.length) {
    return false;
  }
  const chosen = seen.findIndex((bar) => bar.hasAttribute("aria-current"));
  const first = by > 0 ? 0 : seen.length - 1;
  const next = chosen < 0 ? first : Math.min(Math.max(chosen + by, 0), seen.length - 1);
  window.location.href = seen[next].getAttribute("href");
  return true;
}

export function toNextLane() {
  const select = document.getElementById("move-channel");
  if (!select) {
    return false;
  }
  select.selectedIndex = (select.selectedIndex + 1) % select.options.length;
  return press("move-lane");
}

function sendBatch(number, minutes, channel) {
  const form = document.createElement("form");
  form.method = "post";
  form.action = "/plan/batch";
  const values = { csrf_token: csrf, batch: number, by_min: Math.round(minutes), ...(channel ? { channel } : {}) };
  for (const [name, value] of Object.entries(values)) {
    const input = document.createElement("input");
    Object.assign(input, { type: "hidden", name, value });
    form.append(input);
  }
  document.body.append(form);
  form.submit();
}

/* Picture units in one pixel of the screen. */
function scaleOf(svg) {
  return svg.viewBox.baseVal.width / svg.getBoundingClientRect().width;
}

function makeDraggable(bar) {
  let start = null;
  bar.addEventListener("dragstart", (event) => event.preventDefault());
  bar.addEventListener("pointerdown", (event) => {
    start = { x: event.clientX, y: event.clientY, moved: false };
  });
  bar.addEventListener("pointermove", (event) => {
    if (!start || Math.abs(event.clientX - start.x) + Math.abs(event.clientY - start.y) <= DRAGGED_PX) {
      return;
    }
    if (!start.moved) {
      start.moved = true;
      bar.setPointerCapture(event.pointerId);
      bar.classList.add("bar-dragged");
    }
    const scale = scaleOf(bar.ownerSVGElement);
    const by = [(event.clientX - start.x) * scale, (event.clientY - start.y) * scale];
    bar.setAttribute("transform", `translate(${by.join(" ")})`);
  });
  bar.addEventListener("pointercancel", () => {
    start = null;
    bar.removeAttribute("transform");
  });
  bar.addEventListener("pointerup", (event) => {
    const from = start;
    start = null;
    if (!from?.moved) {
      return;
    }
    const svg = bar.ownerSVGElement;
    const minutes = ((event.clientX - from.x) * scaleOf(svg)) / svg.dataset.pxAMin;
    const lane = [...svg.querySelectorAll("[data-lane]")].find((item) => {
      const box = item.getBoundingClientRect();
      return event.clientY >= box.top && event.clientY <= box.bottom;
    });
    bar.addEventListener("click", (click) => click.preventDefault(), { once: true });
    sendBatch(bar.dataset.batch, minutes, lane ? lane.dataset.lane : "");
  });
}

export function startBatches() {
  bars.forEach(makeDraggable);
}
