"use strict";
(() => {
  const sections = [...document.querySelectorAll("section")];
  const links = new Map([...document.querySelectorAll("nav li")].map(li => [li.dataset.for, li]));
  const search = document.getElementById("search"), help = document.getElementById("help"), found = document.getElementById("found");
  const total = found.textContent;
  let current = null;

  function point(section) {
    if (current) links.get(current.id).firstElementChild.removeAttribute("aria-current");
    current = section;
    if (section) links.get(section.id).firstElementChild.setAttribute("aria-current", "true");
  }
  function go(by) {
    const open = sections.filter(s => !s.hidden);
    if (!open.length) return;
    const at = open.indexOf(current), next = open[Math.min(Math.max(at < 0 ? 0 : at + by, 0), open.length - 1)];
    point(next);
    next.focus({ preventScroll: true });
    next.scrollIntoView();
    links.get(next.id).scrollIntoView({ block: "nearest" });
  }
  function narrow() {
    const words = search.value.toLowerCase().split(/\s+/).filter(Boolean);
    let n = 0;
    for (const s of sections) {
      const text = s.textContent.toLowerCase();
      s.hidden = !words.every(w => text.includes(w));
      links.get(s.id).hidden = s.hidden;
      if (!s.hidden) n++;
    }
    found.textContent = words.length ? n + " of " + sections.length + " shown" : total;
    if (current && current.hidden) point(null);
  }
  function look(figure, view) {
    figure.dataset.view = view;
    for (const r of figure.querySelectorAll("input[type=radio]")) r.checked = r.value === view;
  }
  function nextView() {
    const figures = [...document.querySelectorAll("figure.pictures")].filter(f => f.querySelector("input[type=radio]"));
    for (const f of figures) {
      const views = [...f.querySelectorAll("input[type=radio]")].map(r => r.value);
      look(f, views[(views.indexOf(f.dataset.view) + 1) % views.length]);
    }
  }
  function fold() {
    const all = [...document.querySelectorAll("details")], open = all.some(d => !d.open);
    for (const d of all) d.open = open;
  }

  search.addEventListener("input", narrow);
  document.getElementById("help-button").addEventListener("click", () => help.showModal());
  for (const f of document.querySelectorAll("figure.pictures")) {
    f.addEventListener("change", e => { if (e.target.type === "radio") look(f, e.target.value); });
    const rail = f.querySelector("input[type=range]");
    rail.addEventListener("input", () => f.style.setProperty("--curtain", rail.value + "%"));
  }
  const keys = { ".": () => go(1), ",": () => go(-1), s: () => search.focus(), v: nextView, u: fold, h: () => help.showModal() };
  document.addEventListener("keydown", e => {
    if (e.ctrlKey || e.metaKey || e.altKey || help.open) return;
    if (e.target === search) {
      if (e.key === "Escape") { search.value = ""; narrow(); search.blur(); }
      if (e.key === "Enter") { search.blur(); go(0); }
      return;
    }
    const act = keys[e.key];
    if (act) { e.preventDefault(); act(); }
  });
  const watcher = new IntersectionObserver(seen => {
    for (const s of seen) if (s.isIntersecting && document.activeElement !== current) point(s.target);
  }, { rootMargin: "-15% 0px -75% 0px" });
  for (const s of sections) watcher.observe(s);
  if (sections.length) point(sections[0]);
})();
