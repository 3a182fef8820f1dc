import { t } from './texts'

/** How the page is installed where only an installed one may show notifications. */
export function Install({ code }: { code?: string }) {
  return (
    <div className="space-y-2 border-warn border-l-4 px-3 py-2" data-testid="install">
      <p>{t('On this phone, notifications reach only an installed page:')}</p>
      <ol className="list-decimal space-y-1 pl-6">
        <li>{t('Tap the share button of the browser.')}</li>
        <li>{t('Choose “Add to Home Screen”.')}</li>
        <li>
          {code
            ? t('Open the page from the Home Screen and enter the invitation code {code} there.', { code })
            : t('Open the page from the Home Screen.')}
        </li>
      </ol>
    </div>
  )
}
