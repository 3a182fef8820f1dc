import createClient from 'openapi-fetch'
import type { components, paths } from './schema'

export type TraceRow = components['schemas']['TraceRow']
export type TraceView = components['schemas']['TraceView']
export type Step = components['schemas']['Step']
export type Hop = components['schemas']['Hop']
export type Outcome = components['schemas']['Outcome']
export type Knock = components['schemas']['Knock']
export type Status = components['schemas']['Status']
export type Problem = components['schemas']['Problem']
export type ChainView = components['schemas']['ChainView']
export type HopView = components['schemas']['HopView']
export type Tone = components['schemas']['Tone']
export type Health = components['schemas']['Health']
export type PersonView = components['schemas']['PersonView']
export type PersonState = components['schemas']['PersonState']
export type RollOut = components['schemas']['RollOut']
export type Invitation = components['schemas']['Made']
export type Imported = components['schemas']['Imported']
export type FactorView = components['schemas']['FactorView']
export type ProbedServer = components['schemas']['ProbedServer']
export type Finding = components['schemas']['Finding']
export type Difference = components['schemas']['Difference']
export type Revision = components['schemas']['Revision']
export type Awaiting = components['schemas']['Awaiting']
export type RehearsalView = components['schemas']['RehearsalView']
export type Run = components['schemas']['Run']
export type RunState = components['schemas']['RunState']
export type RunChange = components['schemas']['RunChange']
export type LoginResult = components['schemas']['LoginResult']
export type Progress = components['schemas']['Progress']
export type Ladder = components['schemas']['Ladder']
export type Rung = components['schemas']['Rung']
export type Tried = components['schemas']['Tried']
export type TriedMethod = components['schemas']['TriedMethod']
export type ChainBudget = components['schemas']['ChainBudget']
export type PathBudget = components['schemas']['PathBudget']
export type TimeHop = components['schemas']['TimeHop']
export type TimeStage = components['schemas']['TimeStage']
export type TimeFinding = components['schemas']['TimeFinding']
export type TimingView = components['schemas']['TimingView']
export type SettingView = components['schemas']['SettingView']
export type Suggestion = components['schemas']['Suggestion']
export type Curve = components['schemas']['Curve']
export type SessionRow = components['schemas']['SessionRow']
export type Failures = components['schemas']['Failures']

/** The API. The header marks changes as the console's own: a page elsewhere cannot set it. */
export const api = createClient<paths>({ headers: { 'x-bivector-console': '1' } })

/** A refusal of the API, with its remedy. */
export class ApiError extends Error {
  constructor(readonly problem: Problem) {
    super(problem.title)
  }
}

/** What went wrong, for people. */
export function words(error: unknown): string {
  if (!(error instanceof ApiError)) return 'Cannot reach the service. Check that it is running, then try again.'
  const { title, remedy } = error.problem
  return remedy ? `${title}. Remedy: ${remedy}.` : `${title}.`
}

/** The data of an answer; a refusal is thrown. */
export function need<T>(answer: { data?: T; error?: unknown; response: Response }): T {
  if (answer.data !== undefined) return answer.data
  const problem = answer.error as Problem | undefined
  throw new ApiError(
    problem?.title
      ? problem
      : {
          type: '',
          status: answer.response.status,
          title: `The service returned HTTP ${answer.response.status}.`,
          remedy: '',
        },
  )
}
