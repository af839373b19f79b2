"use strict";
(() => {
  const frames = JSON.parse(document.getElementById("data").textContent);
  const $ = id => document.getElementById(id);
  const all = (sel, from = document) => [...from.querySelectorAll(sel)];
  const shown = (v, digits) => v == null ? "–" : v.toFixed(digits);

  // ---- Table: sorting by a column's button, finding, and choosing by verdict.
  const table = $("table"), body = table.tBodies[0], rows = [...body.rows];
  const valueOf = (row, k) => {
    const cell = row.cells[k];
    return cell.dataset.v !== undefined ? Number(cell.dataset.v) : cell.textContent.trim();
  };
  const compare = (a, b) => {
    if (a === b) return 0;
    if (a === "") return 1;
    if (b === "") return -1;
    return typeof a === "number" && typeof b === "number" ? a - b : String(a).localeCompare(String(b), "en", { numeric: true });
  };
  all("th button", table).forEach((button, k) => button.addEventListener("click", () => {
    const head = button.parentElement;
    const up = head.getAttribute("aria-sort") !== "ascending";
    all("th", table).forEach(th => th.removeAttribute("aria-sort"));
    head.setAttribute("aria-sort", up ? "ascending" : "descending");
    const sorted = [...rows].sort((a, b) => {
      const [x, y] = [valueOf(a, k), valueOf(b, k)];
      // What is not known stays last, whichever way.
      if (x === "" || y === "") return compare(x, y);
      return up ? compare(x, y) : compare(y, x);
    });
    body.append(...sorted);
  }));
  const choose = () => {
    const words = $("find").value.toLowerCase().split(/\s+/).filter(Boolean), which = $("which").value;
    let count = 0;
    for (const row of rows) {
      const text = row.textContent.toLowerCase();
      const right = which === "" || (which === "doubt" ? row.dataset.doubt : row.classList.contains(which));
      row.hidden = !(right && words.every(w => text.includes(w)));
      count += row.hidden ? 0 : 1;
    }
    $("count").textContent = `${count} of ${rows.length} frames`;
  };
  $("find").addEventListener("input", choose);
  $("which").addEventListener("change", choose);
  choose();

  // ---- Stars over the field: nine parts with width and ellipse.
  const measured = frames.map((f, i) => i).filter(i => frames[i].map);
  const select = $("field-frame");
  for (const i of measured) select.add(new Option(`${frames[i].file}${frames[i].used ? "" : " (left out)"}`, i));
  const drawField = () => {
    const f = frames[Number(select.value)];
    if (!f || !f.map) { $("field-map").textContent = "No frame has enough stars."; return; }
    const widths = f.map.filter(Boolean).map(c => c.fwhm_px);
    const [low, high] = [Math.min(...widths), Math.max(...widths)];
    const cells = f.map.map((c, k) => {
      const [x, y] = [200 * (k % 3), 130 * Math.floor(k / 3)];
      if (!c) return `<g><rect x="${x + 2}" y="${y + 2}" width="196" height="126" fill="none" stroke="var(--line)"/><text x="${x + 100}" y="${y + 70}">too few stars</text></g>`;
      const part = high > low ? (c.fwhm_px - low) / (high - low) : 0;
      const long = 1 + 3 * (c.elongation - 1), size = 20 * c.fwhm_px / low;
      return `<g><rect x="${x + 2}" y="${y + 2}" width="196" height="126" fill="color-mix(in srgb, var(--s0) ${(8 + 40 * part).toFixed(0)}%, var(--card))"/>` +
        `<ellipse cx="${x + 100}" cy="${y + 52}" rx="${(size * Math.sqrt(long)).toFixed(1)}" ry="${(size / Math.sqrt(long)).toFixed(1)}" transform="rotate(${c.angle_deg.toFixed(1)} ${x + 100} ${y + 52})" fill="none" stroke="var(--ink)" stroke-width="2"/>` +
        `<text x="${x + 100}" y="${y + 106}">${c.fwhm_px.toFixed(2)} px, ${c.elongation.toFixed(2)}</text><text x="${x + 100}" y="${y + 122}">${c.stars} stars</text></g>`;
    });
    $("field-map").innerHTML = `<svg viewBox="0 0 600 390" role="img" aria-label="FWHM and elongation over the field of ${f.file.replace(/[<>&"]/g, "")}">${cells.join("")}</svg>`;
  };
  select.addEventListener("change", drawField);
  drawField();

  // ---- Pictures.
  const stamps = all(".stamp"), picture = new Map(stamps.map(s => [Number(s.dataset.i), s.querySelector("img")]));
  const filters = document.createElementNS("http://www.w3.org/2000/svg", "svg");
  filters.setAttribute("width", 0); filters.setAttribute("height", 0); filters.setAttribute("aria-hidden", "true");
  filters.style.position = "absolute";
  filters.innerHTML = frames.map((f, i) => !f.picture || !f.picture.common.length ? "" :
    `<filter id="common-${i}" color-interpolation-filters="sRGB"><feComponentTransfer>` +
    ["R", "G", "B"].map(c => `<feFunc${c} type="table" tableValues="${f.picture.common.map(v => v.toFixed(4)).join(" ")}"/>`).join("") +
    "</feComponentTransfer></filter>").join("");
  document.body.append(filters);
  const filterOf = i => $("common").checked && frames[i].picture && frames[i].picture.common.length ? `url(#common-${i})` : "none";
  const restretch = () => { for (const [i, img] of picture) img.style.filter = filterOf(i); draw(); };
  const onlyLights = () => {
    for (const s of stamps) s.hidden = $("lights-only").checked && !s.classList.contains("light");
    order = stamps.map(s => Number(s.dataset.i)).filter(i => (!$("lights-only").checked || frames[i].kind === "light"));
    if (!order.includes(here)) here = order[0] ?? 0;
    draw();
  };

  // ---- Flip through. The place is kept as the picture's point in the middle of the stage and screen
  // pixels for a pixel of the frame.
  const stage = $("stage"), canvas = $("view"), pen = canvas.getContext("2d");
  const marked = new Set(frames.map((f, i) => i).filter(i => !frames[i].used && frames[i].kind === "light"));
  let order = [], here = 0, timer = null, place = null;
  const sizeOf = i => frames[i].picture;
  const ratio = () => window.devicePixelRatio || 1;
  const fitted = i => {
    const p = sizeOf(i);
    return { x: .5, y: .5, zoom: Math.min(canvas.width / (p.width * p.factor), canvas.height / (p.height * p.factor)) };
  };
  const draw = () => {
    const img = picture.get(here), p = frames[here] && sizeOf(here);
    if (!img || !p) return;
    const [w, h] = [Math.round(stage.clientWidth * ratio()), Math.round(stage.clientHeight * ratio())];
    if (canvas.width !== w || canvas.height !== h) { canvas.width = w; canvas.height = h; }
    if (!img.complete || !img.naturalWidth) { img.loading = "eager"; img.addEventListener("load", draw, { once: true }); return; }
    const at = place ?? fitted(here), scale = at.zoom * p.factor;
    pen.setTransform(1, 0, 0, 1, 0, 0);
    pen.clearRect(0, 0, w, h);
    pen.imageSmoothingEnabled = scale < 2;
    pen.filter = filterOf(here);
    pen.translate(w / 2, h / 2);
    pen.scale(scale, scale);
    pen.translate(-at.x * p.width, -at.y * p.height);
    if ($("register").checked) {
      const f = frames[here];
      pen.translate(p.width / 2 + f.shift[0], p.height / 2 + f.shift[1]);
      pen.rotate(-f.turn * Math.PI / 180);
      pen.translate(-p.width / 2, -p.height / 2);
    }
    pen.drawImage(img, 0, 0);
    const f = frames[here], n = order.indexOf(here) + 1;
    const state = marked.has(here) ? "left out" + (f.reason ? ": " + f.reason : " by you") : "used";
    $("caption").textContent = [`${n} of ${order.length}`, f.file, f.filter, `FWHM ${shown(f.fwhm, 2)} px`, `elongation ${shown(f.elongation, 2)}`,
      `score ${shown(f.score, 1)}`, state, ...f.doubts, `zoom ${(100 * at.zoom / ratio()).toFixed(0)} %`].join(" · ");
    stage.classList.toggle("marked", marked.has(here));
    $("mark").setAttribute("aria-pressed", marked.has(here));
    $("mark").textContent = marked.has(here) ? "Take this frame back" : "Leave this frame out";
    for (const dot of all(".dot")) dot.classList.toggle("here", Number(dot.dataset.i) === here);
    for (const row of rows) row.classList.toggle("here", Number(row.dataset.i) === here);
  };
  const go = step => { const k = order.indexOf(here); here = order[(k + step + order.length) % order.length]; draw(); };
  const goTo = i => {
    if (!picture.has(i)) return;
    if (!order.includes(i)) { $("lights-only").checked = false; onlyLights(); }
    here = i; draw();
    if (frames[i].map) { select.value = i; drawField(); }
    $("flip").scrollIntoView({ block: "start" });
    stage.focus({ preventScroll: true });
  };
  const play = on => {
    clearInterval(timer);
    timer = on ? setInterval(() => go(1), 1000 / Number($("speed").value)) : null;
    $("play").setAttribute("aria-pressed", on);
    $("play").textContent = on ? "Stop" : "Play";
  };
  const zoomTo = (zoom, px = canvas.width / 2, py = canvas.height / 2) => {
    const p = sizeOf(here), at = place ?? fitted(here), scale = at.zoom * p.factor;
    const [x, y] = [at.x + (px - canvas.width / 2) / scale / p.width, at.y + (py - canvas.height / 2) / scale / p.height];
    const next = Math.min(Math.max(zoom, .02), 16 * ratio()), k = next * p.factor;
    place = { zoom: next, x: x - (px - canvas.width / 2) / k / p.width, y: y - (py - canvas.height / 2) / k / p.height };
    draw();
  };
  const zoomBy = (k, e) => {
    const box = canvas.getBoundingClientRect();
    const at = place ?? fitted(here);
    if (e) zoomTo(at.zoom * k, (e.clientX - box.left) * ratio(), (e.clientY - box.top) * ratio()); else zoomTo(at.zoom * k);
  };
  const mark = () => {
    if (frames[here].kind !== "light") return;
    if (!marked.delete(here)) marked.add(here);
    draw(); tell();
  };
  const tell = () => {
    const out = frames.map((f, i) => i).filter(i => marked.has(i)), lights = frames.filter(f => f.kind === "light").length;
    $("chosen").textContent = `${lights - out.length} of ${lights} lights are used, ${out.length} left out.`;
    // A name is quoted for the rule, and the rule for the shell: in single quotes nothing has a meaning.
    const quoted = name => name.includes("\"") ? `'${name}'` : `"${name}"`;
    const rule = out.map(i => `file != ${quoted(frames[i].file)}`).join(" and ") || "1";
    $("keep").value = `--keep '${rule.replaceAll("'", "'\\''")}'`;
  };
  $("back").addEventListener("click", () => go(-1));
  $("next").addEventListener("click", () => go(1));
  $("play").addEventListener("click", () => play(timer === null));
  $("speed").addEventListener("input", () => { if (timer !== null) play(true); });
  $("fit").addEventListener("click", () => { place = null; draw(); });
  $("one").addEventListener("click", () => zoomTo(ratio()));
  $("register").addEventListener("change", draw);
  $("mark").addEventListener("click", mark);
  $("common").addEventListener("change", restretch);
  $("lights-only").addEventListener("change", onlyLights);
  $("copy").addEventListener("click", async () => {
    $("keep").select();
    let done = false;
    try { await navigator.clipboard.writeText($("keep").value); done = true; } catch { done = document.execCommand("copy"); }
    $("copied").textContent = done ? "copied" : "press Ctrl-C to copy";
  });
  stage.addEventListener("keydown", e => {
    if (e.ctrlKey || e.metaKey || e.altKey) return;
    const keys = {
      ArrowLeft: () => go(-1), ArrowRight: () => go(1), " ": () => play(timer === null), "+": () => zoomBy(1.5), "=": () => zoomBy(1.5),
      "-": () => zoomBy(1 / 1.5), 0: () => { place = null; draw(); }, 1: () => zoomTo(ratio()), x: mark, X: mark,
    };
    if (keys[e.key]) { e.preventDefault(); keys[e.key](); }
  });
  stage.addEventListener("wheel", e => { e.preventDefault(); zoomBy(e.deltaY < 0 ? 1.25 : .8, e); }, { passive: false });
  stage.addEventListener("pointerdown", e => {
    stage.setPointerCapture(e.pointerId);
    let [x, y] = [e.clientX, e.clientY];
    const move = m => {
      const p = sizeOf(here), at = place ?? fitted(here), k = at.zoom * p.factor / ratio();
      place = { zoom: at.zoom, x: at.x - (m.clientX - x) / k / p.width, y: at.y - (m.clientY - y) / k / p.height };
      [x, y] = [m.clientX, m.clientY];
      draw();
    };
    stage.addEventListener("pointermove", move);
    stage.addEventListener("pointerup", () => stage.removeEventListener("pointermove", move), { once: true });
  });
  document.addEventListener("click", e => {
    const to = e.target.closest("[data-go], .dot");
    if (to) goTo(Number(to.dataset.go ?? to.dataset.i));
  });
  window.addEventListener("resize", draw);
  onlyLights();
  restretch();
  tell();
})();
