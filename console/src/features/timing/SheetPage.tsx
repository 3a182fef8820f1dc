import { useQuery } from '@tanstack/react-query'
import { useSearch } from '@tanstack/react-router'
import { api, need, words } from '../../api/client'
import { Button } from '../../ui/Button'

/** What to enter on a device, on one sheet of paper. */
export function SheetPage() {
  const { gateway } = useSearch({ from: '/timing/sheet' })
  const sheet = useQuery({
    queryKey: ['sheet', gateway],
    queryFn: async () =>
      need(await api.GET('/api/v1/gateways/{name}/handover', { params: { path: { name: gateway ?? '' } } })),
  })
  return (
    <article data-testid="sheet" className="mx-auto h-full max-w-3xl overflow-y-auto p-6 print:p-0">
      <Button className="float-right print:hidden" onClick={() => window.print()}>
        Print
      </Button>
      {sheet.isError && <p className="text-ebb">{words(sheet.error)}</p>}
      <h1 className="mb-3 font-semibold text-lg">{sheet.data?.title}</h1>
      {sheet.data?.sections.map((section) => (
        <section key={section.title} className="mb-4">
          <h2 className="border-rule border-b font-semibold">{section.title}</h2>
          <dl>
            {section.rows.map((row) => (
              <div
                key={row.label + row.value}
                className="grid grid-cols-[10rem_1fr] gap-x-3 border-rule-fine border-b py-0.5"
              >
                <dt className="text-ink-soft">{row.label}</dt>
                <dd className="break-words">{row.value}</dd>
              </div>
            ))}
          </dl>
        </section>
      ))}
    </article>
  )
}
