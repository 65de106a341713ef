"use strict";
// Without this, all moves stand below each other; with it, one is shown at a time.
for (const stepper of document.querySelectorAll(".stepper")) {
  const moves = [...stepper.querySelectorAll(":scope > .move")];
  if (moves.length < 2) continue;
  const controls = stepper.querySelector(".controls");
  const [back, forward, all] = ["back", "forward", "all"].map((name) => controls.querySelector("." + name));
  const output = controls.querySelector("output");
  let at = 0;
  const show = (place) => {
    at = Math.max(0, Math.min(moves.length - 1, place));
    moves.forEach((move, number) => move.classList.toggle("current", number === at));
    output.textContent = `Move ${at + 1} of ${moves.length}`;
    back.disabled = at === 0;
    forward.disabled = at === moves.length - 1;
  };
  const stepping = (yes) => {
    stepper.classList.toggle("stepping", yes);
    all.textContent = yes ? "All moves" : "One move at a time";
    back.hidden = forward.hidden = output.hidden = !yes;
  };
  back.addEventListener("click", () => show(at - 1));
  forward.addEventListener("click", () => show(at + 1));
  all.addEventListener("click", () => stepping(!stepper.classList.contains("stepping")));
  stepper.addEventListener("keydown", (event) => {
    const step = { ArrowRight: 1, ArrowLeft: -1 }[event.key];
    if (step === undefined || !stepper.classList.contains("stepping")) return;
    event.preventDefault();
    show(at + step);
  });
  moves.forEach((move, number) => move.addEventListener("show", () => show(number)));
  controls.hidden = false;
  stepping(true);
  show(0);
}
// A link to a part that is closed opens it; one to a move (#s1-move-4) shows it.
const open = () => {
  const found = document.getElementById(decodeURIComponent(location.hash.slice(1)));
  if (!found) return;
  for (let part = found; part; part = part.parentElement) if (part.tagName === "DETAILS") part.open = true;
  if (found.matches(".stepping > .move")) found.dispatchEvent(new Event("show"));
  found.scrollIntoView();
};
addEventListener("hashchange", open);
open();
// Paper has no click: what is closed is opened for it.
addEventListener("beforeprint", () => document.querySelectorAll("details").forEach((part) => (part.open = true)));
// The keys work without a click first: they step the schedule that is in view.
addEventListener("keydown", (event) => {
  if (event.target.closest(".stepper, input, textarea") || !/^Arrow(Left|Right)$/.test(event.key)) return;
  const inView = [...document.querySelectorAll(".stepper.stepping")].find((one) => {
    const box = one.getBoundingClientRect();
    return box.height && box.bottom > 0 && box.top < innerHeight;
  });
  if (inView) inView.dispatchEvent(new KeyboardEvent("keydown", { key: event.key }));
});
