"use strict";
// A plan as a tree that folds: what a keyboard does to a tree is what it does here.
(() => {
  const SMALL = 0.01;
  const percent = (share) =>
    share > 0 && share < 0.001 ? "<0.1 %" : `${(share * 100).toFixed(share < 0.1 ? 1 : 0)} %`;

  class PlanTree {
    constructor(box) {
      this.box = box;
      this.rows = [...box.querySelectorAll("tbody tr")];
      this.parents = [];
      this.folded = new Set();
      this.top = 0;
      this.show = "self";
      const open = [];
      this.rows.forEach((row, number) => {
        const level = Number(row.getAttribute("aria-level"));
        open.length = level - 1;
        this.parents.push(open.length ? open[open.length - 1] : -1);
        open.push(number);
        row.tabIndex = number ? -1 : 0;
      });
      this.rows.forEach((row, number) => {
        if (this.parents.includes(number)) row.setAttribute("aria-expanded", "true");
      });
      box.querySelector(".tools").hidden = false;
      box.addEventListener("click", (event) => this.clicked(event));
      box.querySelector("tbody").addEventListener("keydown", (event) => this.pressed(event));
      const find = box.querySelector("input");
      find.addEventListener("input", () => this.find(find.value.trim().toLowerCase()));
      find.addEventListener("keydown", (event) => {
        if (event.key === "Enter") {
          this.rows.find((row) => row.classList.contains("match"))?.focus();
        }
      });
    }

    inside(number, top) {
      for (let each = number; each >= 0; each = this.parents[each]) if (each === top) return true;
      return false;
    }

    visible(number) {
      if (!this.inside(number, this.top)) return false;
      for (let each = number; each !== this.top; each = this.parents[each]) {
        if (this.folded.has(this.parents[each])) return false;
      }
      return true;
    }

    draw() {
      const shift = Number(this.rows[this.top].getAttribute("aria-level")) - 1;
      const whole = this.top ? Number(this.rows[this.top].dataset.total) || 1 : 1;
      this.rows.forEach((row, number) => {
        row.hidden = !this.visible(number);
        if (row.hasAttribute("aria-expanded")) {
          row.setAttribute("aria-expanded", String(!this.folded.has(number)));
        }
        row.cells[0].style.setProperty("--level", Number(row.getAttribute("aria-level")) - 1 - shift);
        const share = Math.min(1, Number(row.dataset[this.show]) / whole);
        row.querySelector(".bar").style.setProperty("--part", share);
        row.querySelector(".pc").textContent = percent(share);
      });
      this.box.querySelector("[data-whole]").disabled = this.top === 0;
      if (!this.rows.some((row) => !row.hidden && row.tabIndex === 0)) this.rove(this.top);
    }

    rove(number) {
      for (const row of this.rows) row.tabIndex = -1;
      this.rows[number].tabIndex = 0;
    }

    go(number) {
      this.rove(number);
      this.rows[number].focus();
    }

    fold(number, folded) {
      if (!this.rows[number].hasAttribute("aria-expanded")) return;
      if (folded) this.folded.add(number);
      else this.folded.delete(number);
      this.draw();
    }

    zoom(number) {
      this.top = number;
      this.folded.delete(number);
      this.draw();
      this.go(number);
    }

    find(wanted) {
      let found = 0;
      this.rows.forEach((row, number) => {
        const fits = Boolean(wanted) && row.textContent.toLowerCase().includes(wanted);
        row.classList.toggle("match", fits);
        if (!fits) return;
        found += 1;
        for (let each = this.parents[number]; each >= 0; each = this.parents[each]) {
          this.folded.delete(each);
        }
      });
      this.box.querySelector("output").textContent = wanted ? `${found} found` : "";
      this.draw();
    }

    clicked(event) {
      const button = event.target.closest("button");
      if (button?.dataset.show) {
        this.show = button.dataset.show;
        for (const each of this.box.querySelectorAll("[data-show]")) {
          each.setAttribute("aria-pressed", String(each === button));
        }
        this.draw();
      } else if (button?.dataset.fold) {
        this.folded.clear();
        if (button.dataset.fold === "small") {
          this.rows.forEach((row, number) => {
            const few = Number(row.dataset.total) < SMALL;
            if (few && row.hasAttribute("aria-expanded")) this.folded.add(number);
          });
        }
        this.draw();
      } else if (button) {
        this.zoom(0);
      } else if (event.target.closest(".name")) {
        const number = this.rows.indexOf(event.target.closest("tr"));
        this.go(number);
        this.fold(number, !this.folded.has(number));
      }
    }

    pressed(event) {
      const at = this.rows.indexOf(event.target.closest("tr"));
      const shown = this.rows.map((_, number) => number).filter((number) => !this.rows[number].hidden);
      const place = shown.indexOf(at);
      const open = this.rows[at].getAttribute("aria-expanded") === "true";
      const closed = this.rows[at].getAttribute("aria-expanded") === "false";
      const steps = {
        ArrowDown: () => place + 1 < shown.length && this.go(shown[place + 1]),
        ArrowUp: () => place > 0 && this.go(shown[place - 1]),
        Home: () => this.go(shown[0]),
        End: () => this.go(shown[shown.length - 1]),
        ArrowRight: () => (closed ? this.fold(at, false) : open && this.go(at + 1)),
        ArrowLeft: () => {
          if (open) this.fold(at, true);
          else if (at !== this.top) this.go(this.parents[at]);
        },
        Enter: () => this.zoom(at),
        Escape: () => this.zoom(0),
      };
      if (!(event.key in steps) || event.ctrlKey || event.altKey || event.metaKey) return;
      event.preventDefault();
      steps[event.key]();
    }
  }

  for (const box of document.querySelectorAll(".plan")) {
    // Made when its chapter is first opened: hundreds of plans need not be read at once.
    const chapter = box.closest("details.chapter");
    if (!chapter || chapter.open) new PlanTree(box);
    else chapter.addEventListener("toggle", () => new PlanTree(box), { once: true });
  }
})();
