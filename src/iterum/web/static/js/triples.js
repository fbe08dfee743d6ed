/* Cells of a pack in one field: three digits a cell, parted by themselves; once all are there the next field follows. */

export function startTriples() {
  const fields = [...document.querySelectorAll("[data-triples]")];
  for (const [index, field] of fields.entries()) {
    field.addEventListener("input", () => {
      if (/[.,]/.test(field.value)) {
        return; /* somebody types points */
      }
      const most = 3 * Number(field.dataset.triples);
      const digits = field.value.replace(/\D/g, "").slice(0, most);
      field.value = digits.match(/\d{1,3}/g)?.join(" ") ?? "";
      if (digits.length === most) {
        fields[index + 1]?.focus();
      }
    });
  }
}
