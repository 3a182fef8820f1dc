import { useMutation } from '@tanstack/react-query'
import { type FormEvent, useState } from 'react'
import { api, need, words } from '../../api/client'
import { Button } from '../../ui/Button'

/** How the chain reads a text: lengths and the reading that counts, never what is in it. */
export function ReadingTester({ chain }: { chain: string }) {
  const [text, setText] = useState('')
  const [person, setPerson] = useState('')
  const read = useMutation({
    mutationFn: async () =>
      need(await api.POST('/api/v1/readings', { body: { chain, text, person: person.trim() || null } })),
    onSettled: () => setText(''),
  })
  const submit = (event: FormEvent) => {
    event.preventDefault()
    read.mutate()
  }
  const cell = 'border-rule-fine border-t py-0.5 pr-3 align-top'
  return (
    <div className="px-4 py-2" data-testid="reading-tester">
      <h3 className="mb-1 text-ink-faint text-xs">Test how the password field is parsed</h3>
      <form onSubmit={submit} className="mb-2 flex flex-wrap gap-2">
        <input
          type="password"
          autoComplete="off"
          aria-label="Password field input"
          placeholder="Password field input"
          value={text}
          onChange={(event) => setText(event.target.value)}
          className="min-w-0 flex-1 rounded border border-rule bg-paper px-2 py-1"
        />
        <input
          aria-label="User whose tokens are checked"
          placeholder="User (optional)"
          value={person}
          onChange={(event) => setPerson(event.target.value)}
          className="w-28 rounded border border-rule bg-paper px-2 py-1"
        />
        <Button type="submit" disabled={read.isPending || text === ''}>
          Parse
        </Button>
      </form>
      {read.isError && <p className="text-ebb">{words(read.error)}</p>}
      {read.data && (
        <div data-testid="readings">
          <p className="text-ink-soft text-xs">
            {read.data.characters} characters ·{' '}
            {read.data.person
              ? `${read.data.devices} ${read.data.devices === 1 ? 'device' : 'devices'} of ${read.data.person} as evidence`
              : 'not checked against any device'}
          </p>
          <table className="w-full text-xs">
            <thead>
              <tr className="text-left text-ink-faint">
                <th className="pr-3 font-normal">Form</th>
                <th className="pr-3 font-normal">Password length</th>
                <th className="pr-3 font-normal">PIN length</th>
                <th className="pr-3 font-normal">Code length</th>
                <th className="pr-3 font-normal">Keyword</th>
              </tr>
            </thead>
            <tbody>
              {read.data.readings.map((reading) => (
                <tr
                  key={`${reading.form}/${reading.pin}/${reading.code}/${reading.factor}`}
                  className={reading.counts ? 'bg-flood-wash' : 'text-ink-soft'}
                >
                  <td className={cell}>
                    <code className="font-mono">{reading.form}</code>
                    {reading.counts && (
                      <span className="block text-flood">● counts{reading.why ? `: ${reading.why}` : ''}</span>
                    )}
                  </td>
                  <td className={cell}>{reading.password}</td>
                  <td className={cell}>{reading.pin}</td>
                  <td className={cell}>{reading.code}</td>
                  <td className={cell}>{reading.factor}</td>
                </tr>
              ))}
            </tbody>
          </table>
          {read.data.otherwise && <p className="text-ink-soft">{read.data.otherwise}</p>}
        </div>
      )}
    </div>
  )
}
