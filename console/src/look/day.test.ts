import { expect, test } from 'vitest'
import { bars } from './day'

test('the highest quarter fills the height, and nothing is nothing', () => {
  const day = bars([0, 1, 1000].map((value, i) => ({ at: `q${i}`, value })))
  expect(day.most).toBe(1000)
  expect(day.bars.map((b) => b.height)).toEqual([0, 2, 56])
  expect(day.bars.map((b) => b.x)).toEqual([1, 11, 21])
  expect(bars([])).toEqual({ most: 0, bars: [] })
})
