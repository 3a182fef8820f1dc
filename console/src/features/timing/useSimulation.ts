import { useEffect, useState } from 'react'
import type { Curve, Problem } from '../../api/client'
import { useSettled, type Values } from './useTiming'

/** What is simulated. */
export type Played = { chain: string; via: string; way: string; set: Values; sweep: string }

type Line = { progress?: number; curve?: Curve; problem?: Problem }

/** A simulation begins this long after the last change. */
const SETTLED = 120
/** Logins for each point, and points: a curve in some tenths of a second. */
const LOGINS = 600
const POINTS = 15

/** The success curve, played by the service. What is played is given up as soon as something else is wanted. */
export function useSimulation(played: Played | undefined) {
  const wanted = useSettled(played, SETTLED)
  const [curve, setCurve] = useState<Curve>()
  const [progress, setProgress] = useState<number>()
  const [problem, setProblem] = useState<string>()
  const text = JSON.stringify(wanted)
  // biome-ignore lint/correctness/useExhaustiveDependencies: the same content is the same simulation
  useEffect(() => {
    if (!wanted) return
    const stop = new AbortController()
    const { chain, ...rest } = wanted
    setProgress(0)
    play(chain, { ...rest, logins: LOGINS, points: POINTS }, stop.signal, (line) => {
      if (line.progress !== undefined) setProgress(line.progress)
      if (line.problem) setProblem(`${line.problem.title}. To do: ${line.problem.remedy}.`)
      if (line.curve) {
        setCurve(line.curve)
        setProblem(undefined)
      }
    })
      .catch(() => !stop.signal.aborted && setProblem('The service does not answer.'))
      .finally(() => !stop.signal.aborted && setProgress(undefined))
    return () => stop.abort()
  }, [text])
  return { curve, progress, problem }
}

async function play(chain: string, body: object, signal: AbortSignal, each: (line: Line) => void) {
  const response = await fetch(`/api/v1/timing/${encodeURIComponent(chain)}/simulation`, {
    method: 'POST',
    headers: { 'content-type': 'application/json', 'x-bivector-console': '1' },
    body: JSON.stringify(body),
    signal,
  })
  if (!response.ok) return each({ problem: await response.json() })
  const reader = response.body?.pipeThrough(new TextDecoderStream()).getReader()
  let kept = ''
  while (reader) {
    const { done, value } = await reader.read()
    if (done) return
    kept += value
    const lines = kept.split('\n')
    kept = lines.pop() ?? ''
    for (const line of lines) each(JSON.parse(line))
  }
}
