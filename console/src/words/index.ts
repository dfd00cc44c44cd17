// The console's words, in `en.json` and `fr.json`: one file a language, which a person can edit without knowing the code. A test holds
// the two against each other, key by key and value by value.
import { createI18n } from 'vue-i18n'
import { language } from '../api'
import en from './en.json'
import fr from './fr.json'

export const messages: { en: typeof en; fr: typeof en } = { en, fr }
export const i18n = createI18n({ legacy: false, locale: 'en', fallbackLocale: 'en', messages })

/** Changes the language of the console and of the sentences it asks for. */
export function speak(lang: 'en' | 'fr') {
  language.value = lang
  i18n.global.locale.value = lang
  document.documentElement.lang = lang
  localStorage.setItem('passeur-language', lang)
}
