/* An act that signs, starts or changes a charge is not taken from a tap or key that was meant for what stood there
   before: its button is held for a moment after it has appeared. Stop is never held. */

const HELD_MS = 700;
const SIGNING = ['form[action^="/run"]', 'form[action="/bench/cool"]', 'form[action="/bench/failed"]']
  .map((form) => `${form} button:not(.btn-stop, #from-checker)`)
  .join(", ");

function holdBack(scope) {
  const held = [...scope.querySelectorAll(SIGNING)];
  for (const button of held) {
    button.setAttribute("aria-disabled", "true");
  }
  setTimeout(() => {
    for (const button of held) {
      button.removeAttribute("aria-disabled");
    }
  }, HELD_MS);
}

export function startDeliberate() {
  holdBack(document);
  document.addEventListener("htmx:load", (event) => holdBack(event.detail.elt)); /* what came by itself */
  document.addEventListener(
    "click",
    (event) => {
      if (event.target.closest('button[aria-disabled="true"]')) {
        event.preventDefault();
        event.stopImmediatePropagation();
      }
    },
    { capture: true },
  );
}
