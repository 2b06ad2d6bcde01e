/* Recording and place on a form: offered where the browser gives them, which it does over TLS (or on this machine) alone; else a file, and why. */
"use strict";

const kinds = ["audio/webm;codecs=opus", "audio/ogg;codecs=opus", "audio/mp4"];

function told(under, words) {
  const line = under.querySelector("[role=status]") || under.appendChild(Object.assign(document.createElement("p"), { className: "hint" }));
  line.setAttribute("role", "status");
  line.textContent = words;
}

function recorder(box) {
  const input = box.querySelector("input");
  if (!window.isSecureContext || !navigator.mediaDevices || !window.MediaRecorder) {
    told(box, "Recording here needs a secure connection (https). Choose a recording as a file instead.");
    return;
  }
  const button = Object.assign(document.createElement("button"), { type: "button", className: "record", textContent: "Record" });
  button.setAttribute("aria-pressed", "false");
  box.prepend(button);
  let running = null;
  let since = 0;
  button.addEventListener("click", async () => {
    if (running) {
      running.stop();
      return;
    }
    let stream;
    try {
      stream = await navigator.mediaDevices.getUserMedia({ audio: true });
    } catch (error) {
      told(box, "The microphone may not be used here. Allow it in the browser, or choose a recording as a file.");
      return;
    }
    const type = kinds.find((each) => MediaRecorder.isTypeSupported(each)) || "";
    const parts = [];
    running = new MediaRecorder(stream, type ? { mimeType: type } : {});
    running.addEventListener("dataavailable", (event) => parts.push(event.data));
    running.addEventListener("stop", () => {
      for (const track of stream.getTracks()) track.stop();
      const made = running.mimeType || type;
      running = null;
      const ending = made.includes("ogg") ? "ogg" : made.includes("mp4") ? "m4a" : "webm";
      const held = new DataTransfer();
      held.items.add(new File(parts, `recording.${ending}`, { type: made }));
      input.files = held.files;
      const sound = box.querySelector("audio") || box.appendChild(Object.assign(document.createElement("audio"), { controls: true }));
      sound.src = URL.createObjectURL(held.files[0]);
      button.setAttribute("aria-pressed", "false");
      button.textContent = "Record once more";
      told(box, "It is recorded. Listen to it, or send it.");
    });
    running.start(1000);
    since = Date.now();
    button.setAttribute("aria-pressed", "true");
    const tick = () => {
      if (!running) return;
      const seconds = Math.floor((Date.now() - since) / 1000);
      button.textContent = `Stop (${Math.floor(seconds / 60)}:${String(seconds % 60).padStart(2, "0")})`;
      setTimeout(tick, 250);
    };
    tick();
    told(box, "It is recording.");
  });
}

function place(box) {
  const input = box.querySelector("input");
  if (!window.isSecureContext || !navigator.geolocation) {
    told(box, "Where you are can be told by the browser over a secure connection (https) alone. Write it instead.");
    return;
  }
  const button = Object.assign(document.createElement("button"), { type: "button", textContent: "Tell where I am" });
  box.append(button);
  button.addEventListener("click", () => {
    navigator.geolocation.getCurrentPosition(
      (found) => {
        input.value = `${found.coords.latitude.toFixed(5)}, ${found.coords.longitude.toFixed(5)}`;
        told(box, "It is filled in.");
      },
      () => told(box, "The browser does not tell where you are. Write it instead."),
    );
  });
}

document.querySelectorAll("[data-record]").forEach(recorder);
document.querySelectorAll("[data-place]").forEach(place);
const first = document.querySelector("[aria-invalid=true]") || document.querySelector("button.record");
if (first) first.focus();
