import { QRCodeSVG } from 'qrcode.react'
import { type FormEvent, useState } from 'react'
import { Big, Field, Wrong } from './parts'
import { type NewApp, words } from './protocol'
import { t } from './texts'

type Props = { app: NewApp; send: (body: { ticket: string; code: string }) => Promise<unknown>; done: () => void }

/** An authenticator app: by QR code or by typed key; it counts once it has shown a right code. */
export function NewAppForm({ app, send, done }: Props) {
  const [code, setCode] = useState('')
  const [wrong, setWrong] = useState('')
  const [busy, setBusy] = useState(false)
  const confirm = async (event: FormEvent) => {
    event.preventDefault()
    setBusy(true)
    setWrong('')
    try {
      await send({ ticket: app.ticket, code })
      done()
    } catch (error) {
      setWrong(words(error))
      setBusy(false)
    }
  }
  return (
    <form onSubmit={confirm} className="space-y-4">
      <p>{t('Scan this QR code with your authenticator app, or enter the key by hand.')}</p>
      <div className="mx-auto w-fit rounded bg-white p-4">
        <QRCodeSVG value={app.link} size={208} title={t('QR code with the account key')} />
      </div>
      <a href={app.link} className="block text-center text-focus underline">
        {t('Open in the app on this phone')}
      </a>
      <p>
        <span className="text-ink-faint">{t('key')} </span>
        <span className="break-words font-mono" data-testid="seed">
          {app.seed.replace(/(.{4})(?=.)/g, '$1 ')}
        </span>
      </p>
      <Wrong>{wrong}</Wrong>
      <Field
        name={t('Code shown in the app')}
        value={code}
        onChange={(event) => setCode(event.target.value)}
        inputMode="numeric"
        autoComplete="one-time-code"
        maxLength={8}
      />
      <Big type="submit" look="good" disabled={busy || code.trim().length < 6}>
        {t('Confirm')}
      </Big>
    </form>
  )
}
