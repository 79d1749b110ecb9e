"use strict";
// The page as a whole: opening what a link leads to, finding and sorting queries, printing.
(() => {
  const chapters = [...document.querySelectorAll("details.chapter")];

  const openTarget = () => {
    const id = decodeURIComponent(location.hash.slice(1));
    const target = id && document.getElementById(id);
    if (!target) return;
    for (let each = target; each; each = each.parentElement) {
      if (each instanceof HTMLDetailsElement) each.open = true;
    }
    target.scrollIntoView();
  };
  addEventListener("hashchange", openTarget);
  openTarget();

  const all = document.getElementById("all");
  all.addEventListener("click", () => {
    const open = chapters.some((each) => !each.open);
    for (const each of chapters) each.open = open;
    all.textContent = open ? "close all" : "open all";
  });
  addEventListener("beforeprint", () => {
    for (const each of chapters) each.open = true;
  });

  const body = document.querySelector("#ranked tbody");
  const rows = [...body.rows];
  const find = document.getElementById("find");
  find.form.addEventListener("submit", (event) => event.preventDefault());
  find.addEventListener("input", () => {
    const wanted = find.value.trim().toLowerCase();
    let shown = 0;
    rows.forEach((row, number) => {
      const fits = !wanted || row.textContent.toLowerCase().includes(wanted)
        || chapters[number].textContent.toLowerCase().includes(wanted);
      row.hidden = !fits;
      chapters[number].hidden = !fits;
      shown += fits ? 1 : 0;
    });
    document.getElementById("found").textContent = wanted ? `${shown} of ${rows.length}` : "";
  });

  const heads = [...document.querySelectorAll("#ranked thead th")];
  for (const [place, head] of heads.entries()) {
    head.querySelector("button")?.addEventListener("click", () => {
      const down = head.getAttribute("aria-sort") !== "descending";
      for (const each of heads) each.removeAttribute("aria-sort");
      head.setAttribute("aria-sort", down ? "descending" : "ascending");
      const value = (row) => Number(row.cells[place].dataset.value);
      const sorted = [...rows].sort((a, b) => (down ? value(b) - value(a) : value(a) - value(b)));
      body.append(...sorted);
    });
  }
})();
