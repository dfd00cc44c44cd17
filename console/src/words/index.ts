import { createI18n } from 'vue-i18n'
import { language } from '../api'

const en = {
  gates: 'Gates',
  crossings: 'Crossings',
  sessions: 'Sessions',
  edition: 'edition {n}',
  role: { view: 'may view', operate: 'may operate', configure: 'may configure' },
  quay: 'To the quay',
  signOut: 'Sign out',
  light: 'Light colours',
  dark: 'Dark colours',
  language: 'En français',
  skip: 'Skip to content',
  loading: 'Reading…',
  again: 'Try again',
  none: { gates: 'No gate is published yet. Add a [[gate]] to the site file and publish it.', crossings: 'No crossing fits these filters.', sessions: 'Nobody has a live session.' },
  signIn: { title: 'Passeur console', words: 'Engineers sign in here with the same sign-in as everybody else.', button: 'Sign in', refused: 'You are signed in, but not as an engineer of this site.' },
  time: 'Time', crossing: 'Crossing', gate: 'Gate', outcome: 'Outcome', person: 'Person', why: 'Why', address: 'Address',
  allGates: 'All gates', allOutcomes: 'All outcomes', anyPerson: 'Name or subject', more: 'Earlier crossings', live: 'Follow live', following: 'Following',
  repeats: 'and {n} more',
  unrecorded: '{n} anonymous attempts of the last 24 hours were only counted.',
  openId: 'Open by id',
  requests: '{n} requests', bytes: '{in} received, {out} sent',
  decided: 'This decided', next: 'What to do', steps: 'The whole story, {n} steps', facts: 'Facts', evidence: 'Evidence', evidenceWords: 'What the decision was made on, as received. No secret is in it.',
  subject: 'Subject', provider: 'Provider', node: 'Node', began: 'Began', took: 'Took', session: 'Session', request: 'Request', from: 'From', unknownPerson: 'nobody known',
  samePerson: 'More of this person', sameGate: 'More at this gate',
  rules: 'Rules', headers: 'Delivered headers', sections: 'Sections', ups: { well: 'answers', down: 'does not answer', draining: 'draining' }, lastDay: 'Last 24 hours', liveSessions: '{n} live sessions | {n} live session | {n} live sessions', noRule: 'No rule: admits nobody', nothing: 'nothing', directory: 'directory {d}', noDirectory: 'no directory',
  providers: 'Providers', sent: 'Sent', answered: 'Answered', never: 'Never came back', neverHint: 'A wrong redirect address shows only here', secretMissing: 'secret missing',
  lastSeen: 'Last seen', goodUntil: 'Ends at the latest', browser: 'Browser', end: 'End', endAsk: 'End this session of {who}? Every gate it opened closes at once.', endYes: 'End session', cancel: 'Cancel', ended: 'The session of {who} has ended.',
  stage: { gate: 'Gate', provider: 'Provider', check: 'Checks', directory: 'Directory', identity: 'Identity', rules: 'Rules', delivery: 'Delivery', 'hand-back': 'Hand-back', session: 'Session', upstream: 'Upstream' },
  bearing: { fact: 'fact', pass: 'passed', notice: 'notice', stop: 'stopped' },
  outcomes: { admitted: 'admitted', refused: 'refused', 'provider-refused': 'provider refused', 'check-failed': 'check failed', failed: 'something failed', unauthenticated: 'no session', 'bad-request': 'bad request', waiting: 'at the provider', 'never-came-back': 'never came back', 'signed-out': 'signed out' },
}

const fr: typeof en = {
  gates: 'Portes',
  crossings: 'Passages',
  sessions: 'Sessions',
  edition: 'édition {n}',
  role: { view: 'peut regarder', operate: 'peut exploiter', configure: 'peut configurer' },
  quay: 'Vers le quai',
  signOut: 'Se déconnecter',
  light: 'Couleurs claires',
  dark: 'Couleurs sombres',
  language: 'In English',
  skip: 'Aller au contenu',
  loading: 'Lecture…',
  again: 'Réessayer',
  none: { gates: "Aucune porte n'est publiée. Ajoutez une [[gate]] au fichier de site et publiez-le.", crossings: 'Aucun passage ne correspond à ces filtres.', sessions: "Personne n'a de session active." },
  signIn: { title: 'Console de Passeur', words: 'Les ingénieurs se connectent ici comme tout le monde.', button: 'Se connecter', refused: "Vous êtes connecté, mais pas comme ingénieur de ce site." },
  time: 'Heure', crossing: 'Passage', gate: 'Porte', outcome: 'Issue', person: 'Personne', why: 'Pourquoi', address: 'Adresse',
  allGates: 'Toutes les portes', allOutcomes: 'Toutes les issues', anyPerson: 'Nom ou sujet', more: 'Passages antérieurs', live: 'Suivre en direct', following: 'Suivi',
  repeats: 'et {n} de plus',
  unrecorded: '{n} tentatives anonymes des dernières 24 heures ont seulement été comptées.',
  openId: 'Ouvrir par identifiant',
  requests: '{n} requêtes', bytes: '{in} reçus, {out} envoyés',
  decided: 'Ceci a décidé', next: 'Que faire', steps: "Toute l'histoire, {n} étapes", facts: 'Faits', evidence: 'Preuves', evidenceWords: "Ce sur quoi la décision repose, tel que reçu. Aucun secret n'y figure.",
  subject: 'Sujet', provider: 'Fournisseur', node: 'Nœud', began: 'Début', took: 'Durée', session: 'Session', request: 'Requête', from: 'Depuis', unknownPerson: 'personne de connu',
  samePerson: 'Autres de cette personne', sameGate: 'Autres à cette porte',
  rules: 'Règles', headers: 'En-têtes remis', sections: 'Sections', ups: { well: 'répond', down: 'ne répond pas', draining: 'se vide' }, lastDay: 'Dernières 24 heures', liveSessions: '{n} session active | {n} session active | {n} sessions actives', noRule: "Aucune règle : n'admet personne", nothing: 'rien', directory: 'annuaire {d}', noDirectory: 'aucun annuaire',
  providers: 'Fournisseurs', sent: 'Envoyés', answered: 'Répondus', never: 'Jamais revenus', neverHint: "Une mauvaise adresse de retour ne se voit qu'ici", secretMissing: 'secret manquant',
  lastSeen: 'Vu', goodUntil: 'Fin au plus tard', browser: 'Navigateur', end: 'Terminer', endAsk: "Terminer cette session de {who} ? Toute porte qu'elle ouvrait se ferme aussitôt.", endYes: 'Terminer la session', cancel: 'Annuler', ended: 'La session de {who} est terminée.',
  stage: { gate: 'Porte', provider: 'Fournisseur', check: 'Contrôles', directory: 'Annuaire', identity: 'Identité', rules: 'Règles', delivery: 'Remise', 'hand-back': 'Retour', session: 'Session', upstream: 'Application' },
  bearing: { fact: 'fait', pass: 'passé', notice: 'à noter', stop: 'arrêté' },
  outcomes: { admitted: 'admis', refused: 'refusé', 'provider-refused': 'refusé par le fournisseur', 'check-failed': 'contrôle échoué', failed: 'panne', unauthenticated: 'sans session', 'bad-request': 'requête refusée', waiting: 'chez le fournisseur', 'never-came-back': 'jamais revenu', 'signed-out': 'déconnecté' },
}

export const messages = { en, fr }
export const i18n = createI18n({ legacy: false, locale: 'en', fallbackLocale: 'en', messages })

/** Changes the language of the console and of the sentences it asks for. */
export function speak(lang: 'en' | 'fr') {
  language.value = lang
  i18n.global.locale.value = lang
  document.documentElement.lang = lang
  localStorage.setItem('passeur-language', lang)
}
