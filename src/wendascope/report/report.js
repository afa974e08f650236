"use strict";
// Two pictures over each other: the slider says how much is seen of the one below.
for (const pair of document.querySelectorAll(".pair")) {
  const slider = pair.querySelector("input");
  const after = pair.querySelector(".after");
  const show = () => { after.style.clipPath = "inset(0 0 0 " + slider.value + "%)"; };
  slider.addEventListener("input", show);
  show();
}
// Findings that hold every word; their count is told.
const search = document.getElementById("search");
if (search) {
  const rows = Array.from(document.querySelectorAll("#findings tbody tr"));
  const told = document.getElementById("found");
  search.addEventListener("input", () => {
    const words = search.value.toLowerCase().split(/\s+/).filter(Boolean);
    let count = 0;
    for (const row of rows) {
      const text = row.textContent.toLowerCase();
      row.hidden = !words.every((word) => text.includes(word));
      count += row.hidden ? 0 : 1;
    }
    told.textContent = count + " of " + rows.length;
  });
}
