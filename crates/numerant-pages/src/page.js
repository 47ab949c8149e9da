"use strict";
for (const table of document.querySelectorAll("table")) {
  const bodies = [...table.tBodies], parts = bodies.map((body) => [...body.rows].filter((row) => !row.className));
  const rows = parts.flat(), count = table.closest("section").querySelector(".count");
  const all = count.textContent;
  const filter = document.createElement("label");
  filter.className = "filter";
  const input = document.createElement("input");
  input.type = "search";
  input.placeholder = "Filter records";
  input.setAttribute("aria-label", "Filter records");
  filter.append(input);
  count.after(filter);
  input.addEventListener("input", () => {
    const words = input.value.toLowerCase().split(/\s+/).filter(Boolean);
    let shown = 0;
    for (const row of rows) {
      const text = row.textContent.toLowerCase();
      row.hidden = !words.every((word) => text.includes(word));
      shown += row.hidden ? 0 : 1;
    }
    // A group without records that are shown is not shown either; subtotals are those of all its records.
    if (bodies.length > 1) bodies.forEach((body, at) => { body.hidden = parts[at].every((row) => row.hidden); });
    count.textContent = words.length ? shown + " of " + all : all;
  });
  count.setAttribute("aria-live", "polite");
  const heads = table.tHead ? [...table.tHead.rows[0].cells] : [];
  heads.forEach((head, place) => {
    const button = document.createElement("button");
    button.type = "button";
    button.append(...head.childNodes);
    head.append(button);
    button.addEventListener("click", () => {
      const down = head.getAttribute("aria-sort") === "ascending";
      heads.forEach((other) => other.removeAttribute("aria-sort"));
      head.setAttribute("aria-sort", down ? "descending" : "ascending");
      const numeric = rows.some((row) => row.cells[place].className === "n");
      const keys = new Map(rows.map((row, at) => {
        // What a cell is sorted by stands in it where it is not what it shows.
        const cell = row.cells[place], text = cell.dataset.v ?? cell.textContent;
        return [row, [numeric && text !== "" && !isNaN(text) ? Number(text) : text, at]];
      }));
      const compare = (one, other) => {
        const [a, i] = keys.get(one), [b, j] = keys.get(other);
        // Blanks stand at the end, and texts behind numbers.
        if (a === "" || b === "") return (a === "") - (b === "") || i - j;
        const order = typeof a !== typeof b ? (typeof a === "string") - (typeof b === "string")
          : typeof a === "number" ? a - b : a.localeCompare(b, undefined, { numeric: true });
        return (down ? -order : order) || i - j;
      };
      bodies.forEach((body, at) => {
        // Records stay in their group, between its head and its subtotals.
        const end = body.querySelector("tr.sum");
        for (const row of parts[at].sort(compare)) body.insertBefore(row, end);
      });
    });
  });
}
