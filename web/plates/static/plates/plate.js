// The Plate step: drop a picture, see how far it is, look at its real pixels.

import {csrf, notice, post, typing, watchJob} from "../ui/app.js";
import {LightTable} from "../ui/table.js";
import {startClapper} from "./clapper.js";
import {filesOf} from "./dropped.js";
import {startStrip} from "./strip.js";

const MOST = 2000; // as the server's settings have it

const form = document.getElementById("bring-in"),
  input = document.getElementById("id_picture");
const bar = document.getElementById("sending"),
  says = document.getElementById("sending-says"),
  button = document.getElementById("send");

if (document.getElementById("light-table")) {
  const table = new LightTable();
  const strip = startStrip(table);
  const clapper = strip && startClapper(table, strip);
  table.panWithLeft = event => event.button === 0 && !clapper?.drawing;
  document.addEventListener("keydown", event => {
    if (!typing(event) && event.key.toLowerCase() === "l" && !event.ctrlKey) table.toggleLoupe();
  });
}

function send() {
  if (!bar.hidden) return notice("One moment: what came before is still being sent.");
  if (!input.files.length) return notice("Choose a picture, a movie, or numbered pictures.");
  const request = new XMLHttpRequest();
  request.open("POST", location.pathname);
  request.setRequestHeader("X-CSRFToken", csrf);
  bar.hidden = false;
  button.disabled = true;
  request.upload.addEventListener("progress", event => {
    bar.value = event.loaded / event.total;
    says.textContent = event.loaded < event.total ? "sending" : "reading";
  });
  request.addEventListener("load", () => {
    if (request.status === 200) return location.assign(request.responseURL);
    bar.hidden = true;
    button.disabled = false;
    says.textContent = "";
    const page = new DOMParser().parseFromString(request.responseText, "text/html");
    form.querySelector(".error")?.remove();
    const error = page.querySelector("#bring-in .error");
    if (error) input.after(error);
    else notice(page.querySelector(".sheet p")?.textContent || "The server could not take this.");
    input.value = "";
  });
  request.addEventListener("error", () => {
    bar.hidden = true;
    button.disabled = false;
    says.textContent = "";
    notice("The server does not answer. Nothing was changed.");
  });
  request.send(new FormData(form));
}

/** Send files [[File, name], …], of several sequences the one that the artist chooses. */
async function bring(files) {
  const place = document.getElementById("sequences");
  place.hidden = true;
  let chosen = files;
  if (files.length > 1) {
    let told;
    try {
      told = await post(form.dataset.sequences, {names: files.map(([, name]) => name)});
    } catch (error) {
      return notice(error.message);
    }
    if (told.sequences.length > 1) return offer(place, told.sequences, files);
    // What belongs to no sequence stays behind; a folder may hold anything.
    if (told.sequences.length === 1) chosen = of(told.sequences[0], files);
  }
  if (chosen.length > MOST)
    return notice(
      `${chosen.length} pictures are more than the ${MOST} that can be sent at once. Bring them in as a zip.`,
    );
  const transfer = new DataTransfer();
  for (const [file] of chosen) transfer.items.add(file);
  input.files = transfer.files;
  send();
}

const of = (sequence, files) => {
  const names = new Set(sequence.files);
  return files.filter(([, name]) => names.has(name));
};

function offer(place, sequences, files) {
  const title = document.createElement("p");
  title.className = "w-full text-[13px]";
  title.textContent = `These are ${sequences.length} sequences. Bring in:`;
  place.replaceChildren(title);
  for (const sequence of sequences) {
    const one = document.createElement("button");
    one.type = "button";
    one.className = "button small";
    one.textContent = sequence.says;
    one.addEventListener("click", () => bring(of(sequence, files)));
    place.append(one);
  }
  place.hidden = false;
}

form.addEventListener("submit", event => {
  event.preventDefault();
  send();
});
input.addEventListener("change", () => bring([...input.files].map(file => [file, file.name])));
const drop = document.getElementById("table");
for (const name of ["dragover", "drop"])
  drop.addEventListener(name, event => event.preventDefault());
drop.addEventListener("drop", async event => {
  const files = await filesOf(event.dataTransfer);
  if (files.length) bring(files);
});

watchJob();
