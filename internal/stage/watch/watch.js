"use strict";
const track = document.getElementById("track");
const events = new EventSource("events");
events.onmessage = (e) => {
  const open = [...track.querySelectorAll("details")].map((d) => d.open);
  track.innerHTML = e.data;
  track.querySelectorAll("details").forEach((d, i) => { d.open = open[i] === true; });
};
events.addEventListener("end", () => events.close());
