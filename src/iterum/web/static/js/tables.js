/* On a phone each row of a table is a card: every cell says which column it is of. */

function label(table) {
  const heads = [...table.querySelectorAll("thead th")].map((head) =>
    head.querySelector(".visually-hidden") ? "" : head.textContent.trim(),
  );
  for (const row of table.tBodies[0]?.rows ?? []) {
    for (const cell of row.cells) {
      if (cell.tagName === "TD" && heads[cell.cellIndex]) {
        cell.dataset.label = heads[cell.cellIndex];
      }
    }
  }
}

export function startTables() {
  const all = (part) => {
    for (const table of part.querySelectorAll("table.table-list")) {
      label(table);
    }
  };
  all(document);
  document.addEventListener("htmx:load", (event) => all(event.detail.elt));
  document.addEventListener("turned", () => all(document));
}
