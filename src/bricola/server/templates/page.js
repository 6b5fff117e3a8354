// Copy buttons of the pages for callers. Without this script the text is there to be marked by hand.
document.addEventListener("click", async (event) => {
  const button = event.target.closest("button[data-copy]");
  if (!button) return;
  await navigator.clipboard.writeText(button.dataset.copy);
  button.textContent = "Copied";
  setTimeout(() => { button.textContent = "Copy"; }, 1500);
});
