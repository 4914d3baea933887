// Photographs chosen or dropped on a show's board make a shot each: sent one after the other, with
// progress and a way to stop.

import {csrf, notice} from "../ui/app.js";

const form = document.getElementById("photographs");
const input = form?.querySelector("input[type=file]");

function hasFiles(event) {
  return [...(event.dataTransfer?.types || [])].includes("Files");
}

/** Send one picture; the sentence that refuses it, or an empty string. */
async function send(file, signal) {
  const body = new FormData();
  body.append("pictures", file);
  const headers = {"X-CSRFToken": csrf, Accept: "application/json"};
  const response = await fetch(form.action, {method: "POST", body, headers, signal});
  return response.ok ? "" : (await response.json()).problem;
}

let sending = false;

async function sendAll(files) {
  if (sending) return notice("One moment: the pictures before these are still being sent.");
  sending = true;
  const stop = new AbortController(),
    refused = [];
  const says = document.getElementById("photographs-says");
  const bar = Object.assign(document.createElement("progress"), {max: files.length, value: 0});
  const button = Object.assign(document.createElement("button"), {
    type: "button",
    className: "button small",
    textContent: "Stop",
  });
  const text = document.createElement("span");
  button.addEventListener("click", () => stop.abort());
  says.replaceChildren(bar, text, button);
  form.querySelector(".main").disabled = true;
  let done = 0;
  for (const file of files) {
    text.textContent = ` ${done + 1} of ${files.length} `;
    try {
      const problem = await send(file, stop.signal);
      if (problem) refused.push(problem);
      else done += 1;
    } catch (error) {
      refused.push(error.name === "AbortError" ? "Stopped." : "The server does not answer.");
      break;
    }
    bar.value += 1;
  }
  const made = `${done} of ${files.length} shots were made.`;
  sessionStorage.setItem("says", [made, ...refused.slice(0, 3)].join(" "));
  location.reload();
}

if (form) {
  document.addEventListener("dragover", event => {
    if (hasFiles(event)) event.preventDefault();
  });
  document.addEventListener("drop", event => {
    if (!hasFiles(event)) return;
    event.preventDefault();
    sendAll([...event.dataTransfer.files]);
  });
  form.addEventListener("submit", event => {
    event.preventDefault();
    if (input.files.length) sendAll([...input.files]);
  });
}
