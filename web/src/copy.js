// Text to the clipboard, where the browser lets a page do so.

export async function copied(text) {
  if (navigator.clipboard && isSecureContext) {
    try {
      await navigator.clipboard.writeText(text);
      return true;
    } catch {
      // It may be refused to a page without focus: the way below needs none of its rights.
    }
  }
  const area = document.createElement("textarea");
  area.value = text;
  area.setAttribute("readonly", "");
  area.className = "hidden";
  document.body.append(area);
  area.select();
  const done = document.execCommand("copy");
  area.remove();
  return done;
}
