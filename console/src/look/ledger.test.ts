import { describe, expect, it } from 'vitest'
import { ledger } from './ledger'

function table(html: string) {
  const t = document.createElement('table')
  t.innerHTML = html
  ;(ledger as { mounted: (el: HTMLElement) => void }).mounted(t)
  return [...t.querySelectorAll('td')].map((td) => td.dataset.of)
}

describe('a row that is read as a list', () => {
  it('names each value by its column', () => {
    expect(table('<thead><tr><th>Time</th><th> Why </th></tr></thead><tbody><tr><td>now</td><td>so</td></tr></tbody>')).toEqual(['Time', 'Why'])
  })
  it('does not name what can be done, nor rows that are one sentence', () => {
    expect(table('<thead><tr><th>Key</th><th data-bare>What can be done</th></tr></thead><tbody><tr><td>1</td><td>x</td></tr></tbody>')).toEqual(['Key', ''])
    expect(table('<thead><tr><th>A</th><th>B</th></tr></thead><tbody><tr><td colspan="2">none</td></tr></tbody>')).toEqual([undefined])
  })
})
