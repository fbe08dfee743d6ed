/* Every page works without script; nothing here decides anything. Each module has one job. */

import { startAlarms } from "./alarms.js";
import { startBatches } from "./batches.js";
import { startClock } from "./clock.js";
import { startDeliberate } from "./deliberate.js";
import { startDigits } from "./digits.js";
import { startFolding } from "./fold.js";
import { startKeeping } from "./keep.js";
import { startKeys } from "./keys.js";
import { csrf } from "./page.js";
import { startTables } from "./tables.js";
import { startTriples } from "./triples.js";
import { startWake } from "./wake.js";
import { startWrong } from "./wrong.js";

document.addEventListener("htmx:configRequest", (event) => {
  event.detail.headers["X-CSRFToken"] = csrf;
});
startClock();
startAlarms();
startWrong();
startDigits();
startBatches();
startDeliberate();
startKeys();
startTables();
startTriples();
startFolding();
startKeeping();
startWake();
document.querySelector(".row-picked")?.focus({ preventScroll: true });
/* The step that is open in its row, where the first screen does not show all of it. */
const openStep = document.querySelector(".row-step");
if (openStep?.getBoundingClientRect().bottom > window.innerHeight) {
  openStep.scrollIntoView();
}
/* What was refused is typed anew, not typed on to. */
document.querySelector("input[autofocus][aria-invalid=true]")?.select();
if (!window.matchMedia("(prefers-reduced-motion: reduce)").matches) {
  document.querySelector("[data-ride]")?.beginElement(); /* the line of now rides to what happens next */
}
document.documentElement.dataset.ready = "yes"; /* keys act from now on */
