"""The script by which things on a screen are found: by labels, titles, heads of columns and the text beside them. It runs in the page and changes nothing but what is chosen."""

SCRIPT = r"""
window.metrikon = window.metrikon || (() => {
  const plain = (text) => (text || '').replace(/\s+/g, ' ').trim();
  const key = (text) => plain(text).replace(/[:*]+$/, '').trim().toLowerCase();
  const visible = (element) => element.getClientRects().length > 0 && getComputedStyle(element).visibility !== 'hidden';
  const textOf = (element) => plain(element ? element.innerText || element.textContent : '');
  const KINDS = {
    field: 'input:not([type=hidden]):not([type=submit]):not([type=button]):not([type=image]):not([type=file]), textarea, [contenteditable=true], [role=textbox]',
    password: 'input[type=password]',
    list: 'select, [role=listbox], [role=radiogroup], fieldset',
    file: 'input[type=file]',
    button: 'button, input[type=submit], input[type=button], input[type=image], a[href], [role=button], [role=link], [role=tab], [role=menuitem], summary',
  };

  const beside = (element) => {
    const names = [];
    const cell = element.closest('td, th');
    if (cell) {
      for (let before = cell.previousElementSibling; before; before = before.previousElementSibling) {
        if (!before.querySelector('input, select, textarea')) { if (textOf(before)) { names.push(textOf(before)); break; } } else break;
      }
      const table = cell.closest('table');
      const head = table && [...table.rows].find((row) => row.querySelector('th') && !row.querySelector('input, select, textarea'));
      if (head && head !== cell.parentElement && head.cells[cell.cellIndex]) names.push(textOf(head.cells[cell.cellIndex]));
    }
    let before = element.previousSibling;
    while (before && before.nodeType === 3 && !plain(before.textContent)) before = before.previousSibling;
    if (before && !(before.matches && before.matches('input, select, textarea, button'))) names.push(plain(before.textContent));
    return names;
  };

  const namesOf = (element, kind) => {
    const names = [];
    const by = element.getAttribute('aria-labelledby');
    if (by) names.push(by.split(/\s+/).map((id) => textOf(document.getElementById(id))).join(' '));
    names.push(element.getAttribute('aria-label'));
    for (const label of element.labels || []) {
      const copy = label.cloneNode(true);
      copy.querySelectorAll('input, select, textarea, button').forEach((inner) => inner.remove());
      names.push(copy.textContent);
    }
    if (element.tagName === 'FIELDSET') names.push(textOf(element.querySelector('legend')));
    if (kind === 'button') names.push(textOf(element), element.value, element.querySelector && element.querySelector('img') && element.querySelector('img').alt);
    names.push(element.title, element.placeholder, element.alt);
    if (kind !== 'button') names.push(...beside(element));
    return names.filter(Boolean).map(key).filter(Boolean);
  };

  // what a secret was typed into is not there for anything but signing in
  const secret = (element) => Boolean(window.metrikonTyped && window.metrikonTyped.has(element));
  const rowOf = (element) => element.closest('tr, [role=row], li');
  const distance = (one, other) => {
    const a = one.getBoundingClientRect(), b = other.getBoundingClientRect();
    return Math.hypot(a.left + a.width / 2 - b.left - b.width / 2, a.top + a.height / 2 - b.top - b.height / 2);
  };
  const holding = (text) => [...document.querySelectorAll('body *')].filter((each) => visible(each) && key(textOf(each)).includes(key(text)) && ![...each.children].some((inner) => key(textOf(inner)).includes(key(text))));

  const find = (place, kind) => {
    const every = [...document.querySelectorAll(KINDS[kind])].filter((each) => (kind === 'file' || visible(each)) && !each.disabled);
    let found = place.label ? every.filter((each) => namesOf(each, kind).includes(key(place.label))) : [];
    if (!found.length && place.label) found = every.filter((each) => namesOf(each, kind).some((name) => name.startsWith(key(place.label)) && name.length < key(place.label).length + 20));
    if (!found.length && place.path) { try { found = [...document.querySelectorAll(place.path)].filter((each) => kind === 'file' || visible(each)); } catch (error) { found = []; } }
    if (kind !== 'password') found = found.filter((each) => !secret(each));
    found = found.filter((each) => !found.some((other) => other !== each && each.contains(other)));
    if (place.row !== '' && place.row !== null && found.length) {
      const rows = [...new Set(found.map(rowOf).filter(Boolean))];
      const row = place.row === 'last' ? rows[rows.length - 1] : rows[place.row - 1];
      found = found.filter((each) => rowOf(each) === row);
    }
    if (place.near && found.length > 1) {
      const texts = holding(place.near);
      if (texts.length) {
        const far = found.map((each) => Math.min(...texts.map((text) => distance(each, text))));
        found = [found[far.indexOf(Math.min(...far))]];
      }
    }
    return found;
  };

  const choicesOf = (element) => element.tagName === 'SELECT'
    ? [...element.options].map((option) => ({text: plain(option.text), value: option.value, take: () => { element.value = option.value; option.selected = true; for (const kind of ['input', 'change']) element.dispatchEvent(new Event(kind, {bubbles: true})); }}))
    : [...element.querySelectorAll('input[type=radio], [role=option], [role=radio]')].map((one) => ({text: plain(one.labels && one.labels[0] ? one.labels[0].textContent : textOf(one)), value: one.value || '', take: () => one.click()}));
  const choose = (element, option, otherwise) => {
    const choices = choicesOf(element);
    const wanted = (text) => choices.find((each) => key(each.text) === key(text)) || choices.find((each) => each.value && key(each.value) === key(text)) || only(choices.filter((each) => key(each.text).split(/[^\p{L}\p{N}-]+/u).includes(key(text))));
    const only = (some) => (some.length === 1 ? some[0] : undefined);
    const found = (option && wanted(option)) || (otherwise && wanted(otherwise));
    if (!found) return null;
    found.take();
    return found.text;
  };

  const read = (place) => {
    for (const kind of ['field', 'list']) {
      const [one] = find(place, kind);
      if (one) return one.tagName === 'SELECT' ? plain(one.options[one.selectedIndex] && one.options[one.selectedIndex].text) : plain('value' in one ? one.value : textOf(one));
    }
    const shown = [...document.querySelectorAll('output, span, b, strong, em, dd, div, [aria-label], [aria-labelledby]')].filter((each) => visible(each) && !each.children.length && namesOf(each, 'text').includes(key(place.label)));
    if (shown.length) return textOf(shown[shown.length - 1]);
    const labels = [...document.querySelectorAll('td, th, dt, label, span, b, strong, div, p, output')].filter((each) => visible(each) && key(textOf(each)) === key(place.label));
    const label = labels[labels.length - 1];
    if (label) {
      const next = label.nextElementSibling || (label.parentElement && label.parentElement.nextElementSibling);
      if (next) return textOf(next);
    }
    return null;
  };

  // how what stands at a point is named, so that it is found again: by its label alone, else with its row or with text near it, else by a path
  const named = (element, kind) => {
    const unique = (place) => { const found = find({label: '', near: '', row: '', path: '', ...place}, kind); return found.length === 1 && found[0] === element; };
    const labels = [...new Set(rawNames(element, kind))].filter((each) => each.length < 80);
    for (const label of labels) if (unique({label})) return {label};
    const row = rowOf(element);
    for (const label of labels) {
      if (row && unique({label, row: 'last'})) return {label, row: 'last'};
      const rows = [...new Set(find({label, near: '', row: '', path: ''}, kind).map(rowOf).filter(Boolean))];
      if (row && rows.includes(row) && unique({label, row: rows.indexOf(row) + 1})) return {label, row: rows.indexOf(row) + 1};
      for (const head of document.querySelectorAll('h1, h2, h3, h4, legend, caption, th, b, strong')) if (visible(head) && textOf(head) && textOf(head).length < 60 && unique({label, near: textOf(head)})) return {label, near: textOf(head)};
    }
    if (element.id && unique({path: '#' + CSS.escape(element.id)})) return {path: '#' + CSS.escape(element.id)};
    if (element.name && unique({path: element.tagName.toLowerCase() + '[name="' + CSS.escape(element.name) + '"]'})) return {path: element.tagName.toLowerCase() + '[name="' + CSS.escape(element.name) + '"]'};
    const steps = [];
    for (let at = element; at && at !== document.body; at = at.parentElement) steps.unshift(at.tagName.toLowerCase() + ':nth-child(' + ([...at.parentElement.children].indexOf(at) + 1) + ')');
    return {path: 'body > ' + steps.join(' > ')};
  };
  const rawNames = (element, kind) => {
    const wanted = namesOf(element, kind);
    const texts = [element.getAttribute('aria-label'), textOf(element), element.value, element.title, element.placeholder, ...[...(element.labels || [])].map((label) => { const copy = label.cloneNode(true); copy.querySelectorAll('input, select, textarea, button').forEach((inner) => inner.remove()); return copy.textContent; }), ...beside(element)].map(plain).map((text) => text.replace(/[:*]+$/, '').trim());
    return wanted.map((name) => texts.find((text) => text.toLowerCase() === name) || name);
  };
  const at = (x, y) => {
    let element = document.elementFromPoint(x, y);
    if (!element) return null;
    const label = element.closest('label');
    if (label && label.control && !element.closest(KINDS.button)) element = label.control;
    for (const kind of ['file', 'list', 'field', 'button']) {
      const found = element.closest(KINDS[kind]);
      if (found && secret(found)) return {kind: 'text', text: ''};
      if (found && found.tagName !== 'FIELDSET') {
        const shown = kind === 'list' ? choicesOf(found).map((each) => each.text).filter(Boolean) : [];
        return {kind, place: named(found, kind), value: 'value' in found && found.type !== 'password' && kind === 'field' ? String(found.value) : '', secret: found.type === 'password', options: shown.slice(0, 300), in_row: Boolean(found.closest('tr, [role=row]') && found.closest('table, [role=grid], [role=table]')?.querySelector('th, [role=columnheader]'))};
      }
    }
    return {kind: 'text', text: textOf(element).slice(0, 200)};
  };
  // the labels of a form for signing in, where one shows
  const signing = () => {
    const [password] = [...document.querySelectorAll(KINDS.password)].filter(visible);
    if (!password) return null;
    const every = [...document.querySelectorAll(KINDS.field)].filter(visible);
    const user = every[every.indexOf(password) - 1];
    const button = [...document.querySelectorAll(KINDS.button)].filter((each) => visible(each) && (each.form ? each.form === password.form : password.compareDocumentPosition(each) & 4))[0];
    return user && button ? {user: named(user, 'field').label || '', password: named(password, 'field').label || '', press: named(button, 'button').label || ''} : null;
  };
  const fields = () => [...document.querySelectorAll('input, textarea')].filter((each) => visible(each) && !secret(each) && (each.readOnly || each.disabled)).map((each) => key(each.value));
  return {
    find, choose, read, at, signing,
    options: (element) => choicesOf(element).map((each) => each.text),
    shows: (text) => key(document.body ? document.body.innerText : '').includes(key(text)),
    holds: (text) => [...document.querySelectorAll('td, th, li, dd, output')].some((each) => visible(each) && key(textOf(each)) === key(text)) || fields().includes(key(text)),
    messages: (places) => [...new Set(places.flatMap((path) => { try { return [...document.querySelectorAll(path)]; } catch (error) { return []; } }).filter(visible).map(textOf).filter(Boolean))],
    // tells `done` when nothing has changed for some milliseconds and the page is complete
    quiet: (calm, most, done) => {
      const began = performance.now();
      let last = began;
      const watching = new MutationObserver(() => { last = performance.now(); });
      watching.observe(document, {subtree: true, childList: true, attributes: true, characterData: true});
      const look = () => {
        const now = performance.now();
        if ((document.readyState === 'complete' && now - last >= calm) || now - began > most) { watching.disconnect(); done(metrikon.state()); } else setTimeout(look, 15);
      };
      setTimeout(look, calm);
    },
    state: () => [document.readyState, location.href, document.getElementsByTagName('*').length, document.body ? document.body.innerText.length : 0, 'status=' + ((performance.getEntriesByType('navigation')[0] || {}).responseStatus || 0)].join(' '),
    namesOf, visible, key, plain, KINDS,
  };
})();
"""
