"use strict";
(() => {
  // What the reader chose stands in the address, so that a link keeps it and going back undoes it.
  const chosen = new URLSearchParams(location.hash.includes("=") ? location.hash.slice(1) : "");
  const remember = (key, value) => {
    if (value) chosen.set(key, value); else chosen.delete(key);
    const text = chosen.toString();
    try { history.replaceState(null, "", text ? "#" + text : location.pathname + location.search); } catch { /* Some viewers keep no address. */ }
  };

  const value = (row, column) => {
    const cell = row.cells[column];
    return cell ? cell.dataset.v ?? cell.textContent.trim() : "";
  };
  const compare = (one, other) => {
    const [a, b] = [Number(one), Number(other)];
    if (one !== "" && other !== "" && !Number.isNaN(a) && !Number.isNaN(b)) return a - b;
    if (one === "" || other === "") return one === other ? 0 : one === "" ? 1 : -1;
    return one.localeCompare(other, undefined, { numeric: true });
  };

  for (const table of document.querySelectorAll("table[data-sorts]")) {
    const id = table.id, body = table.tBodies[0], rows = [...body.rows];
    const heads = [...table.tHead.rows[0].cells];
    const sort = (column, down) => {
      heads.forEach((head, at) => {
        if (at === column) head.setAttribute("aria-sort", down ? "descending" : "ascending");
        else head.removeAttribute("aria-sort");
      });
      const order = rows.map((row, at) => [value(row, column), at, row]);
      order.sort((one, other) => (down ? -1 : 1) * compare(one[0], other[0]) || one[1] - other[1]);
      body.append(...order.map((entry) => entry[2]));
    };
    heads.forEach((head, column) => {
      const button = document.createElement("button");
      button.type = "button";
      button.append(...head.childNodes);
      head.append(button);
      button.addEventListener("click", () => {
        const down = head.getAttribute("aria-sort") === "ascending";
        sort(column, down);
        remember("sort." + id, column + (down ? "-" : ""));
      });
    });
    const kept = chosen.get("sort." + id);
    if (kept && heads[parseInt(kept, 10)]) sort(parseInt(kept, 10), kept.endsWith("-"));

    if (rows.length > 7) {
      const box = document.createElement("p"), label = document.createElement("label");
      const field = document.createElement("input"), told = document.createElement("output");
      box.className = "filter";
      field.type = "search";
      field.value = chosen.get("find." + id) ?? "";
      label.append("Find in " + table.caption.textContent.trim() + " ", field);
      box.append(label, " ", told);
      table.parentElement.before(box);
      const filter = () => {
        const words = field.value.toLowerCase().split(/\s+/).filter(Boolean);
        let shown = 0;
        for (const row of rows) {
          const text = row.textContent.toLowerCase();
          row.hidden = !words.every((word) => text.includes(word));
          shown += row.hidden ? 0 : 1;
        }
        told.textContent = words.length ? shown + " of " + rows.length + " rows" : "";
        remember("find." + id, field.value);
      };
      field.addEventListener("input", filter);
      if (field.value) filter();
    }
  }

  const folds = [...document.querySelectorAll("details[id]")];
  const shut = new Set((chosen.get("shut") ?? "").split(".").filter(Boolean));
  for (const fold of folds) {
    if (shut.has(fold.id)) fold.open = false;
    fold.addEventListener("toggle", () => {
      if (printing) return;
      if (fold.open) shut.delete(fold.id); else shut.add(fold.id);
      remember("shut", [...shut].join("."));
    });
  }
  // Paper has nothing folded.
  let printing = false;
  addEventListener("beforeprint", () => { printing = true; folds.forEach((fold) => { fold.open = true; }); });
  addEventListener("afterprint", () => {
    folds.forEach((fold) => { fold.open = !shut.has(fold.id); });
    setTimeout(() => { printing = false; }, 0);
  });
})();
