// Tables of the console. On a narrow screen a row is read as a list of named values, so that each cell carries the words of its column.
import type { Directive } from 'vue'

function name(table: HTMLElement) {
  const heads = [...table.querySelectorAll<HTMLElement>(':scope > thead th')].map((th) => (th.dataset.bare === undefined ? (th.textContent ?? '').trim() : ''))
  if (!heads.length) return
  for (const row of table.querySelectorAll<HTMLElement>(':scope > tbody > tr')) {
    const cells = [...row.children] as HTMLElement[]
    if (cells.length !== heads.length) continue
    cells.forEach((cell, i) => {
      if (cell.tagName === 'TD' && cell.dataset.of !== heads[i]) cell.dataset.of = heads[i] ?? ''
    })
  }
}

export const ledger: Directive<HTMLElement> = { mounted: name, updated: name }
