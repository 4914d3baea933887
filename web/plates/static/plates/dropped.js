// What was dropped: files, and those in folders however deep; each is named with its folder.

/** [[File, name], …] of a drop. */
export async function filesOf(transfer) {
  const entries = [...transfer.items].map(item => item.webkitGetAsEntry?.()).filter(Boolean);
  if (!entries.some(entry => entry.isDirectory))
    return [...transfer.files].map(file => [file, file.name]);
  const found = [];
  for (const entry of entries) await walk(entry, "", found);
  return found;
}

async function walk(entry, folder, found) {
  if (entry.isFile) {
    const file = await new Promise((done, failed) => entry.file(done, failed));
    found.push([file, folder + entry.name]);
    return;
  }
  const reader = entry.createReader();
  for (;;) {
    // A reader gives a hundred at a time, and nothing at the end.
    const some = await new Promise((done, failed) => reader.readEntries(done, failed));
    if (!some.length) return;
    for (const one of some) await walk(one, `${folder}${entry.name}/`, found);
  }
}
