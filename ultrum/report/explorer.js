// Fills the two lists from the lines of the page and draws what is chosen.
(async () => {
  const lines = JSON.parse(document.getElementById("explorer-lines").textContent);
  const item = JSON.parse(document.getElementById("explorer-item").textContent);
  document.getElementById("explorer").hidden = false;
  await Bokeh.embed.embed_item(item);
  const part = (name) => Bokeh.documents[0].get_model_by_name(name);
  const chosen = { first: document.getElementById("explorer-first"), second: document.getElementById("explorer-second") };
  for (const list of Object.values(chosen)) {
    for (const group of new Set(lines.map((line) => line.group))) {
      const box = document.createElement("optgroup");
      box.label = group;
      lines.forEach((line, place) => {
        if (line.group === group) box.append(new Option(line.name, place));
      });
      list.append(box);
    }
  }
  const exact = (v) => (v === null ? "missing" : String(Number(v.toPrecision(12))));
  const several = new Set(lines.map((line) => line.group)).size > 1;
  const said = (line) => {
    if (!line) return "";
    const name = several ? `${line.group}: ${line.name}` : line.name;
    return name.toLowerCase().includes(line.unit) ? name : `${name} (${line.unit})`;
  };
  const show = (place) => {
    const line = lines[chosen[place].value];
    const axis = part(`${place} axis`);
    axis.axis_label = said(line);
    axis.visible = line !== undefined;
    part(`${place} source`).data = line
      ? { x: line.x, y: line.y.map((v) => (v === null ? NaN : v)), period: line.period, exact: line.y.map(exact) }
      : { x: [], y: [], period: [], exact: [] };
  };
  if (chosen.second.dataset.start) chosen.second.value = chosen.second.dataset.start;
  for (const place of ["first", "second"]) {
    chosen[place].addEventListener("change", () => show(place));
    show(place);
  }
})();
