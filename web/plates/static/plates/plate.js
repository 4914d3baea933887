// The Plate step: drop a picture, see how far it is, look at its real pixels.

import {csrf, notice, typing} from "../ui/app.js";
import {LightTable} from "../ui/table.js";
import {startStrip} from "./strip.js";

const form = document.getElementById("bring-in"),
  input = document.getElementById("id_picture");
const bar = document.getElementById("sending"),
  says = document.getElementById("sending-says"),
  button = document.getElementById("send");

if (document.getElementById("light-table")) {
  const table = new LightTable();
  startStrip(table);
  table.panWithLeft = event => event.button === 0;
  document.addEventListener("keydown", event => {
    if (!typing(event) && event.key.toLowerCase() === "l" && !event.ctrlKey) table.toggleLoupe();
  });
}

function send() {
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
    button.disabled = false;
    notice("The server does not answer. Nothing was changed.");
  });
  request.send(new FormData(form));
}

form.addEventListener("submit", event => {
  event.preventDefault();
  send();
});
input.addEventListener("change", send);
const drop = document.getElementById("table");
for (const name of ["dragover", "drop"])
  drop.addEventListener(name, event => event.preventDefault());
drop.addEventListener("drop", event => {
  if (!event.dataTransfer.files.length) return;
  input.files = event.dataTransfer.files;
  send();
});
