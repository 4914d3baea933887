// Curves over frames, as `match/_curves.html` has them: the playhead in each, the values at it, and
// a click that goes to a frame.

/** Put the playhead of all curves on the page to a frame. */
export function showPlayhead(frame) {
  if (frame === undefined) return;
  for (const curves of document.querySelectorAll(".path-curves")) {
    const count = +curves.dataset.count,
      index = frame - +curves.dataset.first,
      x = ((index + 0.5) * 340) / count;
    for (const curve of curves.querySelectorAll(".path-curve")) {
      const values = curve.querySelector("[data-values]"),
        value = values.dataset.values.split("|")[index];
      values.textContent = value === undefined || value === "None" ? "–" : value;
      curve
        .querySelector(".playhead")
        .setAttribute("d", index < 0 || index >= count ? "" : `M${x} 0V44`);
    }
  }
}

/** Let a click on a curve within `root` show its frame: `go(frame)`. */
export function followClicks(root, go) {
  root.addEventListener("click", event => {
    const drawn = event.target.closest(".path-curve svg");
    if (!drawn) return;
    const {first, count} = drawn.closest(".path-curves").dataset,
      box = drawn.getBoundingClientRect(),
      share = (event.clientX - box.left) / box.width;
    go(+first + Math.min(+count - 1, Math.max(0, Math.floor(share * count))));
  });
}
