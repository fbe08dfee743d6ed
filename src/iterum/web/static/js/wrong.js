/* Something's wrong answers even when the server does not; stopping a channel is asked once. */

import { UNSEEN } from "./page.js";
import { words } from "./words.js";

const WRONG_PATIENCE_MS = 1500;

export function startWrong() {
  const wrong = document.getElementById("wrong");
  const offline = document.getElementById("wrong-offline");
  if (wrong && offline && new URL(wrong.href).origin === location.origin) {
    wrong.addEventListener("click", (event) => {
      event.preventDefault();
      const gone = new AbortController();
      setTimeout(() => gone.abort(), WRONG_PATIENCE_MS);
      fetch(wrong.href, { headers: UNSEEN, signal: gone.signal }).then(
        () => {
          window.location.href = wrong.href;
        },
        () => offline.showModal(),
      );
    });
  }
  const stop = document.getElementById("stop");
  if (stop) {
    stop.addEventListener("click", (event) => {
      if (!window.confirm(words("Stop this channel?"))) {
        event.preventDefault();
      }
    });
  }
}
