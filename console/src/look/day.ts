// How many machines were on in each quarter of an hour, as bars.
export interface Bar { at: string; x: number; height: number; machines: number }

const HEIGHT = 76

/** Bars of ten units each, as high as the highest quarter makes them; a quarter with anybody in it is seen. */
export function bars(day: { at: string; machines: number }[]): { most: number; bars: Bar[] } {
  const most = day.reduce((m, q) => Math.max(m, q.machines), 0)
  const height = (n: number) => (n ? Math.max(2, Math.round((n / most) * HEIGHT)) : 0)
  return { most, bars: day.map((q, i) => ({ at: q.at, x: i * 10 + 1, height: height(q.machines), machines: q.machines })) }
}
