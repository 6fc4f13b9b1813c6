// Sorting by a heading, and searching in a table; without it the page has all its rows in their order.
for (const table of document.querySelectorAll("table.rows")) {
  const body = table.tBodies[0], rows = [...body.rows];
  const valueOf = (row, at) => row.cells[at].dataset.v ?? row.cells[at].textContent;
  [...table.tHead.rows[0].cells].forEach((head, at) => {
    if (!head.textContent) return;
    const button = document.createElement("button");
    button.type = "button";
    button.textContent = head.textContent;
    head.replaceChildren(button);
    button.addEventListener("click", () => {
      const down = head.getAttribute("aria-sort") === "ascending";
      for (const other of table.tHead.rows[0].cells) other.removeAttribute("aria-sort");
      head.setAttribute("aria-sort", down ? "descending" : "ascending");
      const compare = (a, b) => {
        const [x, y] = [valueOf(a, at), valueOf(b, at)];
        const numbers = x !== "" && y !== "" && !isNaN(x) && !isNaN(y);
        return numbers ? x - y : x.localeCompare(y, undefined, { numeric: true });
      };
      body.append(...[...rows].sort((a, b) => (down ? compare(b, a) : compare(a, b))));
    });
  });
  if (rows.length < 8) continue;
  const line = document.createElement("p"), label = document.createElement("label");
  const input = document.createElement("input"), told = document.createElement("span");
  line.className = "find";
  label.textContent = "Search: ";
  input.type = "search";
  told.setAttribute("role", "status");
  label.append(input);
  line.append(label, told);
  table.closest(".wide").before(line);
  input.addEventListener("input", () => {
    const words = input.value.toLowerCase().split(/\s+/).filter(Boolean);
    let shown = 0;
    for (const row of rows) {
      const text = row.textContent.toLowerCase();
      row.hidden = !words.every((word) => text.includes(word));
      shown += !row.hidden;
    }
    told.textContent = words.length ? `${shown} of ${rows.length} rows` : "";
  });
}
