"""The script that lays a veil over a secret before a screen is pictured, and takes it off again. It knows the fields that the secret was typed into, and its letters."""

ON = r"""
const secret = arguments[0].toLowerCase();
const typed = window.metrikonTyped || new WeakSet();
const boxes = [];
const lay = (box, left, top) => { if (box.width && box.height) boxes.push([box.left + left - 1, box.top + top - 1, box.width + 2, box.height + 2]); };
const within = (root, left, top) => {
  for (const each of root.querySelectorAll('*')) {
    if (each.shadowRoot) within(each.shadowRoot, left, top);
    if (each.tagName === 'IFRAME') {
      const box = each.getBoundingClientRect();
      try { if (each.contentDocument) within(each.contentDocument, left + box.left, top + box.top); } catch (error) { /* of another origin: it cannot hold it */ }
    }
    const held = 'value' in each && typeof each.value === 'string' ? each.value : '';
    const told = [held, each.title || '', each.placeholder || '', each.alt || ''].join(' ').toLowerCase();
    if (typed.has(each) || told.includes(secret)) lay(each.getBoundingClientRect(), left, top);
  }
  const texts = document.createTreeWalker(root, NodeFilter.SHOW_TEXT);
  for (let node = texts.nextNode(); node; node = texts.nextNode()) {
    const block = (node.parentElement && node.parentElement.textContent || '').toLowerCase();
    if (!node.data.trim() || !block.includes(secret)) continue;
    const range = document.createRange();
    range.selectNodeContents(node);
    for (const box of range.getClientRects()) lay(box, left, top);
  }
};
within(document, 0, 0);
for (const [left, top, width, height] of boxes) {
  const made = document.createElement('metrikon-veil');
  made.style.cssText = `position:fixed;z-index:2147483647;background:#54625F;left:${left}px;top:${top}px;width:${width}px;height:${height}px`;
  document.documentElement.append(made);
}
return boxes.length;
"""
OFF = "document.querySelectorAll('metrikon-veil').forEach((each) => each.remove());"
TYPED = "(window.metrikonTyped = window.metrikonTyped || new WeakSet()).add(arguments[0]);"
