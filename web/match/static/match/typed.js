// What is typed in the report's forms survives when the report is renewed under it, and waits its
// turn behind edits under way.

const formOf = field =>
  field.form?.getAttribute("hx-post") || field.form?.getAttribute("action") || "";
const fields = sheet =>
  [...sheet.querySelectorAll("input:not([type=hidden]):not([type=file]), textarea, select")].filter(
    field => field.name,
  );
const changed = field =>
  field.tagName === "SELECT"
    ? [...field.options].some(option => option.selected !== option.defaultSelected) &&
      [...field.options].some(option => option.defaultSelected)
    : field.value !== field.defaultValue;

/** The fields that were changed and not sent, but those of the form `sent`. */
export function typedIn(sheet, sent = null) {
  return fields(sheet)
    .filter(field => changed(field) && field.form !== sent)
    .map(field => ({form: formOf(field), name: field.name, value: field.value}));
}

// What was typed on leaves that the report holds no more, until they are there again.
let absent = [];

/** Put them back into a renewed report, or later into the leaf that they belong to. */
export function putBack(sheet, kept) {
  absent = [...absent, ...kept].filter(({form, name, value}) => {
    const field = fields(sheet).find(one => formOf(one) === form && one.name === name);
    if (field) field.value = value;
    return !field;
  });
}

/**
 * Requests of the report wait until `settled()`, a promise, is done; `waiting()` tells whether
 * there is anything to wait for.
 */
export function queueBehind(sheet, waiting, settled) {
  document.addEventListener("htmx:confirm", event => {
    const {elt, verb, path} = event.detail;
    if (verb !== "post" || !sheet.contains(elt) || !waiting()) return;
    event.preventDefault();
    const name = elt.tagName === "FORM" ? "submit" : "click";
    settled().then(() => {
      const now = sheet.contains(elt)
        ? elt
        : [...sheet.querySelectorAll("[hx-post]")].find(
            one => one.getAttribute("hx-post") === path && one.tagName === elt.tagName,
          );
      if (now) window.htmx.trigger(now, name);
    });
  });
  // A swap that a form of the report asked for: the others keep what is typed in them.
  let kept = [];
  document.addEventListener("htmx:beforeSwap", event => {
    if (event.detail.target === sheet) kept = typedIn(sheet, event.detail.elt?.closest("form"));
  });
  document.addEventListener("htmx:afterSwap", event => {
    if (event.detail.target === sheet) putBack(sheet, kept);
    else if (sheet.contains(event.detail.target)) putBack(sheet, []);
  });
}
