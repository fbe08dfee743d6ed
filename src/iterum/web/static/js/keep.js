/* What is entered without the link is kept on this device, shown, and sent once when the link is back. */

import { csrf, UNSEEN } from "./page.js";
import { turnTo } from "./turn.js";
import { words } from "./words.js";

const KEPT = "iterum-kept";
const DRAFT = "iterum-draft-";
const PATIENCE_MS = 5000;
const CHARGER_MS = 30000;
const TRY_EVERY_MS = 5000;
const STALE_MS = 300000;
const DRAFT_LASTS_MS = 12 * 3600 * 1000;
const notSent = () => words("Not sent: there is no link, and the charger was not told. Do it at the charger itself.");
const notKnown = () => words("No answer: it is not known whether the charger was told. Look at the charger itself.");
let sending = false;

function kept() {
  try {
    return JSON.parse(localStorage.getItem(KEPT)) ?? [];
  } catch {
    return [];
  }
}

function save(list) {
  localStorage.setItem(KEPT, JSON.stringify(list));
  show();
}

function newId() {
  const bytes = crypto.getRandomValues(new Uint8Array(16));
  return [...bytes].map((byte) => byte.toString(16).padStart(2, "0")).join("");
}

async function send(url, fields, patienceMs = PATIENCE_MS) {
  const gone = new AbortController();
  const timer = setTimeout(() => gone.abort(), patienceMs);
  try {
    return await fetch(url, {
      method: "POST",
      body: new URLSearchParams([...fields, ["csrf_token", csrf]]),
      headers: { "X-Kept": "1" },
      signal: gone.signal,
    });
  } finally {
    clearTimeout(timer);
  }
}

/* ---- the sign: how much waits, and what could not be taken */

function line(item) {
  const row = document.createElement("li");
  row.textContent = item.said ? `${item.what}: ${item.said} ` : `${item.what}, ${item.at.slice(11, 16)} UTC`;
  if (item.said) {
    const look = document.createElement("a");
    look.href = item.page;
    look.textContent = words("Look");
    const drop = document.createElement("button");
    drop.className = "btn btn-second btn-small";
    drop.textContent = words("Delete it");
    drop.addEventListener("click", () => save(kept().filter((one) => one.id !== item.id)));
    row.append(look, " ", drop);
  }
  return row;
}

function show() {
  const list = kept();
  let sign = document.getElementById("kept");
  if (!list.length) {
    sign?.remove();
    return;
  }
  if (!sign) {
    sign = document.createElement("details");
    sign.id = "kept";
    sign.className = "note note-care kept";
    document.getElementById("main").prepend(sign);
  }
  const head = document.createElement("summary");
  const asked = list.filter((item) => item.said).length;
  const told = { count: list.length, asked };
  head.textContent = asked
    ? words("Kept here: {count} waiting, {asked} with a question", told)
    : words("Kept here: {count} waiting", told);
  const rows = document.createElement("ul");
  rows.append(...list.map(line));
  sign.replaceChildren(head, rows);
}

function say(text) {
  const note = document.createElement("div");
  note.className = "note note-care";
  note.setAttribute("role", "alert");
  note.textContent = text;
  document.getElementById("main").prepend(note);
}

/* ---- sending what waits, in its order */

async function sendKept() {
  if (sending || !kept().some((item) => !item.said)) {
    return;
  }
  sending = true;
  try {
    for (const item of kept()) {
      if (item.said) {
        continue;
      }
      /* The device's clock may be wrong: only the time that went by on it counts. */
      const age = (Date.now() - Date.parse(item.at)) / 1000;
      const answer = await send(item.url, [...item.fields, ["kept_id", item.id], ["kept_s", age]]);
      if (answer.status >= 500) {
        break;
      }
      const rest = kept();
      if (answer.ok) {
        save(rest.filter((one) => one.id !== item.id));
      } else {
        const said = answer.status === 422 ? words("must be checked again") : words("was refused");
        save(rest.map((one) => (one.id === item.id ? { ...one, said } : one)));
      }
    }
  } catch {
    /* the link is down still: it is tried again */
  } finally {
    sending = false;
  }
}

/* ---- forms */

function fieldsOf(form, submitter) {
  const fields = [...new FormData(form)].filter(([name, value]) => name !== "csrf_token" && typeof value === "string");
  return submitter?.name ? [...fields, [submitter.name, submitter.value]] : fields;
}

async function onSubmit(event) {
  const { target: form, submitter } = event;
  const keeps = form.dataset.keep;
  const url = submitter?.hasAttribute("formaction") ? submitter.formAction : form.action;
  if (!keeps && !form.hasAttribute("data-tell")) {
    return;
  }
  if (submitter?.hasAttribute("data-now")) {
    return;
  }
  event.preventDefault();
  const fields = fieldsOf(form, submitter);
  const item = { id: newId(), at: new Date().toISOString(), url, what: keeps, page: location.href, fields };
  try {
    const all = keeps ? [...fields, ["kept_id", item.id], ["kept_s", "now"]] : fields;
    const answer = await send(url, all, keeps && !form.dataset.notKept ? PATIENCE_MS : CHARGER_MS);
    if (answer.ok && answer.headers.get("content-type")?.startsWith("text/plain")) {
      forgetDraft();
      const next = (await answer.text()).replace(/^taken already$/, location.href);
      if (form.hasAttribute("data-measure")) {
        await turnTo(next);
      } else {
        location.href = next;
      }
      return;
    }
    HTMLFormElement.prototype.submit.call(named(form, submitter));
  } catch (error) {
    if (!keeps) {
      say(error.name === "AbortError" ? notKnown() : notSent());
      return;
    }
    /* What a charger must do is never kept: it would be done when nobody expects it. */
    const { next, notKept } = form.dataset;
    const rest = fields.filter(([name]) => name !== notKept);
    save([...kept(), { ...item, fields: rest }]);
    forgetDraft();
    if (next && navigator.serviceWorker?.controller) {
      location.href = next;
      return;
    }
    form.reset();
    const told = [words("{what} is kept on this device.", { what: keeps })];
    if (!navigator.serviceWorker?.controller) {
      told.push(words("Leave this page open until the link is back."));
    }
    if (rest.length < fields.length) {
      told.push(error.name === "AbortError" ? notKnown() : notSent());
    }
    say(told.join(" "));
  }
}

/* The form as its button would have sent it: what is refused is shown by the page itself. */
function named(form, submitter) {
  if (submitter?.name) {
    const field = document.createElement("input");
    field.type = "hidden";
    field.name = submitter.name;
    field.value = submitter.value;
    form.append(field);
  }
  if (submitter?.hasAttribute("formaction")) {
    form.action = submitter.formAction;
  }
  return form;
}

/* ---- digits that were typed and not sent yet */

function draftForm() {
  const form = document.querySelector("[data-measure]");
  return (
    form && {
      form,
      name: DRAFT + form.querySelector("[name=pack]").value,
      cells: [...form.querySelectorAll("[data-digits]")],
    }
  );
}

function forgetDraft() {
  const draft = draftForm();
  if (draft) {
    localStorage.removeItem(draft.name);
    draft.done = true;
  }
}

function keepDraft() {
  const draft = draftForm();
  const typed = draft?.cells.map((cell) => cell.value) ?? [];
  if (draft?.cells.some((cell) => cell.value !== cell.defaultValue)) {
    localStorage.setItem(draft.name, JSON.stringify({ at: Date.now(), typed }));
  }
}

function giveBack() {
  const draft = draftForm();
  const was = draft && JSON.parse(localStorage.getItem(draft.name) ?? "null");
  if (!was || Date.now() - was.at > DRAFT_LASTS_MS || was.typed.length !== draft.cells.length) {
    return;
  }
  if (draft.cells.some((cell) => cell.value !== cell.defaultValue)) {
    return; /* somebody has typed on already, before this ran */
  }
  for (const [index, cell] of draft.cells.entries()) {
    cell.value = was.typed[index];
    if (/[.,]/.test(cell.value)) {
      cell.dataset.pointed = "yes"; /* a figure already: its point stays where it was typed */
    }
  }
}

export function startKeeping() {
  show();
  giveBack();
  document.addEventListener("submit", onSubmit);
  document.addEventListener("turned", () => {
    show();
    giveBack();
  });
  document.addEventListener("input", keepDraft);
  document.addEventListener("click", keepDraft); /* a key of the pad has written its digit by then */
  document.addEventListener("keyup", keepDraft);
  window.addEventListener("online", sendKept);
  setInterval(sendKept, TRY_EVERY_MS);
  sendKept();
  if (navigator.serviceWorker && window.isSecureContext) {
    navigator.serviceWorker.register("/worker.js").then(
      () => prefetch(),
      () => {} /* without the authority installed a browser takes no worker: pages that are open still keep what is typed */,
    );
  }
}

/* What may be wanted next at the bench without the link: the class's packs, the batches, and what is wrong. */
async function prefetch() {
  await navigator.serviceWorker.ready;
  const atTheBench = /^\/(measure|charge|run)\b/.test(location.pathname);
  const wanted = atTheBench ? document.querySelectorAll('.queue a[href], a[href^="/run/"], [data-ahead]') : [];
  for (const item of wanted) {
    const url = item.dataset.ahead ?? item.href;
    const held = await caches.match(url, { ignoreVary: true });
    if (!held || Date.now() - Date.parse(held.headers.get("date")) > STALE_MS) {
      await fetch(url, { headers: UNSEEN }).catch(() => {});
    }
  }
}
