/* Rows of a table of packs: walked by arrows, each with acts of its own. */

function rowOf(element) {
  return element.closest?.("tr[data-pack]");
}

export function along(by) {
  const all = [...document.querySelectorAll("tr[data-pack][tabindex]")];
  const row = rowOf(document.activeElement);
  if (!all.length || (!row && by < 0)) {
    return false;
  }
  const details = all[0].closest("details");
  if (details) {
    details.open = true;
  }
  (all[all.indexOf(row) + by] || row || all[0]).focus();
  return true;
}

function pressIn(row, selector) {
  const button = row?.querySelector(selector);
  button?.click();
  return Boolean(button);
}

export const onRow = {
  out: () => pressIn(rowOf(document.activeElement), "[data-act='out']"),
  back: () => pressIn(rowOf(document.activeElement), "form input[value=back] ~ button"),
};

/* To group A by 1, to B by 2 ... */
export function toGroup(digit) {
  const letter = String.fromCharCode(64 + Number(digit));
  return pressIn(rowOf(document.activeElement), `[data-act='${letter}']`);
}
