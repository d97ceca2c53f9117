// Replaces what is shown when the daemon says that it has changed.
"use strict";
const live = document.getElementById("live"), state = document.getElementById("state");
const events = new EventSource("/events");
let waiting = false, again = false;
async function renew() {
  if (waiting) { again = true; return; }
  waiting = true;
  try {
    const answer = await fetch(live.dataset.part, { headers: { "X-Part": "1" } });
    if (answer.ok) {
      live.innerHTML = await answer.text();
      state.textContent = "as of " + new Date().toLocaleTimeString();
    }
  } catch (e) { state.textContent = "the daemon does not answer; what is shown is older"; }
  waiting = false;
  if (again) { again = false; setTimeout(renew, 1000); }
}
events.onmessage = renew;
setInterval(renew, 15000); // what is "ago" goes on
events.onerror = () => { state.textContent = "the daemon does not answer; what is shown is older"; };
