/* What is wrong sounds and shows, also behind other tabs. */

import { root } from "./page.js";
import { words } from "./words.js";

const STOP_EVERY_MS = 4000;
const LOOK_EVERY_MS = 20000;
let title = document.title;
let sound = null;
let lastBeep = 0;

function beep(urgent) {
  try {
    sound = sound || new AudioContext();
    const tone = sound.createOscillator();
    const volume = sound.createGain();
    tone.frequency.value = urgent ? 880 : 520;
    volume.gain.setValueAtTime(0.25, sound.currentTime);
    volume.gain.exponentialRampToValueAtTime(0.001, sound.currentTime + (urgent ? 0.8 : 0.4));
    tone.connect(volume);
    volume.connect(sound.destination);
    tone.start();
    tone.stop(sound.currentTime + 0.9);
    if (navigator.vibrate && navigator.userActivation?.hasBeenActive) {
      navigator.vibrate(urgent ? [300, 100, 300] : 200);
    }
  } catch {
    /* no sound here: the sign and the title still show */
  }
}

function alarm() {
  const sign = document.getElementById("alarms");
  if (!sign) {
    return;
  }
  const worst = sign.dataset.worst;
  const isStop = worst === "stop";
  document.title = worst ? `${isStop ? words("STOP") : words("Look")} · ${title}` : title;
  root.dataset.alarm = worst;
  const due = Date.now() - lastBeep > (isStop ? STOP_EVERY_MS : LOOK_EVERY_MS);
  if (worst && Number(sign.dataset.unseen) > 0 && due) {
    lastBeep = Date.now();
    beep(isStop);
  }
}

export function startAlarms() {
  document.addEventListener("turned", () => {
    title = document.title;
    alarm();
  });
  document.addEventListener("htmx:afterSwap", alarm);
  document.addEventListener("htmx:sendError", () => {
    root.dataset.link = "lost";
  });
  document.addEventListener("htmx:afterOnLoad", () => {
    delete root.dataset.link;
  });
}
