// A map of a report can be looked at closely: by its buttons, by keys and by dragging, and by the wheel once it was clicked.
// Without a script the page is whole, and the maps stand as they are.
for (const map of document.querySelectorAll("figure.map > svg:not(.spread)")) {
  const [, , wide, high] = map.getAttribute("viewBox").split(" ").map(Number);
  const bar = map.querySelector(".scale");
  let x = 0, y = 0, k = 1, held = null;

  function show() {
    k = Math.min(1, Math.max(1 / 64, k));
    x = Math.min(wide * (1 - k), Math.max(0, x));
    y = Math.min(high * (1 - k), Math.max(0, y));
    map.setAttribute("viewBox", [x, y, wide * k, high * k].join(" "));
    map.style.setProperty("--k", k);
    map.style.touchAction = k < 1 ? "none" : "auto"; // a finger scrolls the page where there is nothing to move
    if (bar) scale();
    for (const [button, off] of [[nearer, k <= 1 / 64], [farther, k >= 1], [whole, k >= 1]]) button.disabled = off;
  }
  function zoom(by, px = wide / 2, py = high / 2) {
    const before = k;
    k = Math.min(1, Math.max(1 / 64, k * by));
    x += px * (before - k);
    y += py * (before - k);
    show();
  }
  // a bar of a round length, as it is drawn without a script
  function scale() {
    const metres = (wide / 5) * k * Number(bar.dataset.metres);
    const ten = 10 ** Math.floor(Math.log10(metres));
    const length = ten * (metres >= 5 * ten ? 5 : metres >= 2 * ten ? 2 : 1);
    const long = length / Number(bar.dataset.metres) / k;
    bar.setAttribute("transform", `translate(${x} ${y}) scale(${k})`);
    const [line, text] = bar.children;
    line.setAttribute("d", `M${wide - 12 - long} ${high - 16}v4h${long}v-4`);
    text.setAttribute("x", wide - 12 - long / 2);
    text.textContent = length >= 1000 ? `${length / 1000} km` : `${Number(length.toPrecision(2))} m`;
  }
  function button(text, name, act) {
    const made = document.createElement("button");
    made.type = "button";
    made.textContent = text;
    made.setAttribute("aria-label", name);
    made.title = name;
    made.addEventListener("click", act);
    tools.append(made);
    return made;
  }
  function at(event) {
    const box = map.getBoundingClientRect();
    return [((event.clientX - box.left) / box.width) * wide, ((event.clientY - box.top) / box.height) * high];
  }

  const tools = document.createElement("div");
  tools.className = "tools";
  map.before(tools);
  const nearer = button("Nearer", "Nearer (+)", () => zoom(1 / 1.6));
  const farther = button("Farther", "Farther (−)", () => zoom(1.6));
  const whole = button("Whole map", "Whole map (0)", () => { k = 1; show(); });
  map.tabIndex = 0;
  map.addEventListener("keydown", (event) => {
    const step = 0.2 * k;
    const acts = {
      "+": () => zoom(1 / 1.6), "=": () => zoom(1 / 1.6), "-": () => zoom(1.6), "0": () => { k = 1; show(); },
      ArrowLeft: () => { x -= wide * step; show(); }, ArrowRight: () => { x += wide * step; show(); },
      ArrowUp: () => { y -= high * step; show(); }, ArrowDown: () => { y += high * step; show(); },
    };
    if (event.key in acts && !event.ctrlKey && !event.metaKey && !event.altKey) { event.preventDefault(); acts[event.key](); }
  });
  map.addEventListener("wheel", (event) => {
    if (document.activeElement !== map) return; // the page scrolls until the map was chosen
    event.preventDefault();
    zoom(event.deltaY < 0 ? 1 / 1.25 : 1.25, ...at(event));
  }, { passive: false });
  map.addEventListener("pointerdown", (event) => { map.focus(); held = at(event); map.setPointerCapture(event.pointerId); });
  map.addEventListener("pointermove", (event) => {
    if (!held) return;
    const now = at(event);
    x += (held[0] - now[0]) * k;
    y += (held[1] - now[1]) * k;
    held = now;
    show();
  });
  map.addEventListener("pointerup", () => { held = null; });
  map.addEventListener("pointercancel", () => { held = null; });
  show();
}
