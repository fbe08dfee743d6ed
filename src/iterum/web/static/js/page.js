/* What every other module needs of the page: its root, its token, its buttons by id. */

export const root = document.documentElement;
export const csrf = document.querySelector("meta[name=csrf-token]").content;

/* Marks what is fetched before anybody looks at it: what the bench has to say waits for the page that is seen. */
export const UNSEEN = { "X-Unseen": "yes" };

/* Press a button or link by its id; false where it is not on this page. */
export function press(id) {
  const element = document.getElementById(id);
  if (!element) {
    return false;
  }
  element.click();
  return true;
}

/* Whether keys typed there are text. */
export function isText(target) {
  return target.matches("input:not([data-digits]):not([type=checkbox]), textarea, select, [contenteditable]");
}
