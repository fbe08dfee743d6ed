/* Digit fields of Measure: three digits fill a cell and move on. On a phone the page's own pad is the keyboard. */

let form = null;
let fields = [];
const phone = window.matchMedia("(max-width: 760px)");
let lastField = 0;

/* A cell has three digits, the point after the first; a total up to four, the point before the last two. */
function most(field) {
  return Number(field.dataset.digits) || 3;
}

/* Who types the point has said where it stands: such a figure is left as it is. */
function isPointed(field) {
  return most(field) > 3 && /^\d*[.,]\d*$/.test(field.value) && field.dataset.pointed === "yes";
}

function digitsOf(field) {
  return field.value.replace(/\D/g, "").slice(0, most(field));
}

function isFull(field) {
  return isPointed(field) ? /\d[.,]\d/.test(field.value) : digitsOf(field).length >= 3;
}

function write(field, digits) {
  const head = most(field) > 3 ? Math.max(digits.length - 2, 0) : 1;
  field.value = digits.length > 1 && head ? `${digits.slice(0, head)}.${digits.slice(head)}` : digits;
}

function at() {
  const index = fields.indexOf(document.activeElement);
  return index < 0 ? lastField : index;
}

function toField(index) {
  if (index < 0 || index >= fields.length) {
    return;
  }
  lastField = index;
  fields[index].focus();
  fields[index].select();
}

function preview() {
  if (fields.every(isFull)) {
    window.htmx.trigger(form, "volts");
  }
}

export function put(digit) {
  const index = at();
  const field = fields[index];
  const whole = field.selectionStart === 0 && field.selectionEnd === field.value.length;
  if (isPointed(field) && !whole) {
    field.value += digit;
    preview();
    return;
  }
  delete field.dataset.pointed;
  const digits = whole || digitsOf(field).length === most(field) ? digit : digitsOf(field) + digit;
  write(field, digits);
  field.setSelectionRange(field.value.length, field.value.length);
  if (digits.length === most(field)) {
    toField(index + 1);
  }
  preview();
}

export function rub() {
  const index = at();
  let field = fields[index];
  if (field.value === "" && index > 0) {
    toField(index - 1);
    field = fields[index - 1];
  }
  if (isPointed(field)) {
    field.value = field.value.slice(0, -1);
    return;
  }
  write(field, digitsOf(field).slice(0, -1));
}

export function toCell(by) {
  toField(at() + by);
}

function setPad() {
  for (const field of fields) {
    field.inputMode = phone.matches ? "none" : "decimal";
    field.readOnly = phone.matches;
  }
}

const PAD = { rub, back: () => toCell(-1) };

export function startDigits() {
  restartDigits();
  phone.addEventListener("change", setPad);
}

/* Take up the fields that stand on the page now. */
export function restartDigits() {
  form = document.querySelector("[data-measure]");
  fields = form ? [...form.querySelectorAll("[data-digits]")] : [];
  lastField = 0;
  if (!form) {
    return;
  }
  fields.forEach((field, index) => {
    field.addEventListener("focus", () => {
      lastField = index;
      if (!phone.matches) {
        field.select();
      }
    });
    field.addEventListener("keydown", (event) => {
      if (event.key === "." || event.key === ",") {
        if (most(field) === 3) {
          event.preventDefault(); /* behind the first digit, where it comes by itself */
        } else {
          field.dataset.pointed = "yes";
        }
      }
    });
    field.addEventListener("input", () => {
      if (!/[.,]/.test(field.value)) {
        delete field.dataset.pointed;
      }
      if (!isPointed(field)) {
        write(field, digitsOf(field));
      }
      preview();
    });
    if (most(field) > 3 && /[.,]/.test(field.value)) {
      field.dataset.pointed = "yes"; /* what stood there, or was kept, is a figure already */
    }
  });
  for (const button of form.querySelectorAll("[data-key]")) {
    const name = button.dataset.key;
    button.addEventListener("click", () => (PAD[name] ? PAD[name]() : put(name)));
  }
  setPad();
  const done = document.querySelector("[data-done]");
  if (done) {
    done.focus();
    return;
  }
  const odd = fields.findIndex((field) => field.hasAttribute("data-odd"));
  const first = Math.max(
    odd,
    fields.findIndex((field) => !isFull(field)),
    0,
  );
  const here = fields.indexOf(document.activeElement);
  if (fields.length && (here < 1 || here === odd)) {
    toField(first); /* who has moved on already, before this ran, stays there */
  }
}
