/* What scripts say, in the language of the page: its sentences come with the page, by their English. */

let told;

export function words(text, values = {}) {
  told ??= JSON.parse(document.documentElement.dataset.words || "{}");
  return (told[text] ?? text).replace(/\{(\w+)\}/g, (_, name) => values[name]);
}
