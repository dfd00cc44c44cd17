<script setup lang="ts">
// The frame: who I am, which edition is live, where I can go. Without a role, the page that says so.
import { mdiAccountMultiple, mdiChevronDown, mdiBinoculars, mdiBoomGate, mdiBookOpenPageVariantOutline, mdiCardAccountDetailsOutline, mdiFerry, mdiHistory, mdiLogout, mdiKeyOutline, mdiLan, mdiTicketConfirmationOutline, mdiThemeLightDark, mdiTranslate } from '@mdi/js'
import { computed, ref, watch } from 'vue'
import { useI18n } from 'vue-i18n'
import { useRoute, useRouter } from 'vue-router'
import { useTheme } from 'vuetify'
import { api, got } from './api'
import { useActing, useReading } from './api/asking'
import { moment } from './look/shape'
import Mark from './parts/Mark.vue'
import { speak } from './words'

const mark = import.meta.env.BASE_URL + 'mark.svg'
const { t, locale } = useI18n()
const theme = useTheme()
const router = useRouter()

const who = useReading(() => got(api.GET('/me')))
const me = computed(() => who.data)
const problem = computed(() => who.problem)
watch(me, (me) => { if (me) document.title = `${me.site} · Passeur` })
// Another engineer may publish meanwhile, and an edition may go back by itself.
setInterval(() => me.value && who.again(), 15_000)
router.afterEach(() => void (me.value && who.again()))

const confirming = useActing()
const unconfirmed = computed(() => confirming.problem?.message)
const confirm = () => confirming.act(async () => {
  await got(api.POST('/site/confirm'))
  await who.again()
})

function colours() {
  const next = theme.global.current.value.dark ? 'light' : 'dark'
  theme.change(next)
  localStorage.setItem('passeur-colours', next)
}

const places = [
  { to: '/crossings', icon: mdiFerry, word: 'crossings' },
  { to: '/gates', icon: mdiBoomGate, word: 'gates' },
  { to: '/providers', icon: mdiCardAccountDetailsOutline, word: 'providers' },
  { to: '/sessions', icon: mdiAccountMultiple, word: 'sessions' },
  { to: '/present', icon: mdiLan, word: 'present.title' },
  { to: '/editions', icon: mdiBookOpenPageVariantOutline, word: 'editions' },
  { to: '/kerberos', icon: mdiTicketConfirmationOutline, word: 'krb.title' },
  { to: '/survey', icon: mdiBinoculars, word: 'survey.title' },
  { to: '/secrets', icon: mdiKeyOutline, word: 'secrets' },
  { to: '/acts', icon: mdiHistory, word: 'acts' },
]
const open = ref(false)
const route = useRoute()
const here = computed(() => places.find((p) => route.path.startsWith(p.to)))
</script>

<template>
  <v-app>
    <a class="skip" href="#content">{{ t('skip') }}</a>
    <header class="bar">
      <span class="site"><img :src="mark" alt="" width="20" height="20" /> {{ me?.site ?? 'Passeur' }}</span>
      <v-menu v-if="me" v-model="open">
        <template #activator="{ props: opens }">
          <v-btn class="where" size="small" variant="text" v-bind="opens" :append-icon="mdiChevronDown">{{ t(here?.word ?? 'places') }}</v-btn>
        </template>
        <nav class="menu" :aria-label="t('places')">
          <router-link v-for="p in places" :key="p.to" :to="p.to" active-class="here" @click="open = false"><v-icon :icon="p.icon" size="17" /> {{ t(p.word) }}</router-link>
          <span class="menu-me quiet"><b>{{ me.name }}</b> {{ t(`role.${me.role}`) }} · {{ t('edition', { n: me.edition }) }}</span>
        </nav>
      </v-menu>
      <nav v-if="me" class="places" :aria-label="t('places')">
        <router-link v-for="p in places" :key="p.to" :to="p.to" active-class="here">
          <v-icon :icon="p.icon" size="17" /> {{ t(p.word) }}
        </router-link>
      </nav>
      <span class="spring" />
      <span v-if="me" class="me quiet">
        <b>{{ me.name }}</b> {{ t(`role.${me.role}`) }} · <span data-test="edition">{{ t('edition', { n: me.edition }) }}</span>
      </span>
      <v-btn :icon="mdiTranslate" size="small" variant="text" :aria-label="t('language')" :title="t('language')" @click="speak(locale === 'fr' ? 'en' : 'fr')" />
      <v-btn :icon="mdiThemeLightDark" size="small" variant="text" :aria-label="theme.global.current.value.dark ? t('light') : t('dark')" @click="colours" />
      <v-btn :icon="mdiLogout" size="small" variant="text" href="/.passeur/sign-out" :aria-label="t('signOut')" :title="t('signOut')" />
    </header>
    <v-main id="content" tabindex="-1">
      <div v-if="me?.trouble" class="band stop" role="alert"><Mark tone="stop" /> {{ me.trouble }}</div>
      <div v-if="me?.by === 'emergency'" class="band notice" role="status"><Mark tone="notice" /> {{ t('emergencyIn') }} <a href="/.passeur/emergency">{{ t('emergencyEnd') }}</a></div>
      <div v-else-if="me?.emergency" class="band notice" role="status"><Mark tone="notice" /> <span>{{ t('emergencyUsed', { at: moment(me.emergency, locale) }) }} <router-link to="/acts">{{ t('acts') }}</router-link></span></div>
      <div v-if="me?.confirm_by" class="band notice" role="status" data-test="confirm">
        <Mark tone="notice" /> <span>{{ unconfirmed || t('confirmAsk', { n: me.edition, at: moment(me.confirm_by, locale) }) }}</span>
        <v-btn v-if="me.role === 'configure'" size="small" color="primary" @click="confirm">{{ t('confirm') }}</v-btn>
      </div>
      <router-view v-if="me" :rights="me.role" />
      <section v-else-if="problem" class="page gatehouse">
        <h1>{{ t('signIn.title') }}</h1>
        <p v-if="problem.status === 401">{{ t('signIn.words') }}</p>
        <template v-else>
          <p>{{ problem.status === 403 ? t('signIn.refused') : problem.title }}</p>
          <p class="quiet">{{ problem.message }}</p>
        </template>
        <p class="ways">
          <v-btn v-if="problem.status === 401" color="primary" href="/.passeur/sign-in?for=console">{{ t('signIn.button') }}</v-btn>
          <v-btn v-else color="primary" @click="who.again">{{ t('again') }}</v-btn>
          <a href="/">{{ t('quay') }}</a>
          <a v-if="problem.emergency" :href="problem.emergency">{{ t('emergency') }}</a>
        </p>
      </section>
      <p v-else class="page quiet">{{ t('loading') }}</p>
    </v-main>
  </v-app>
</template>

<style scoped>
.bar { display: flex; flex-wrap: wrap; align-items: center; gap: 4px 10px; padding: 6px 24px; background: rgb(var(--v-theme-surface)); border-bottom: 1px solid rgb(var(--v-theme-line)); min-height: 48px; }
.site { display: inline-flex; align-items: center; gap: 9px; font-weight: 620; margin-inline-end: 14px; }
.places { display: flex; gap: 2px; }
.places a { display: inline-flex; align-items: center; gap: 6px; padding: 6px 12px; text-decoration: none; color: rgb(var(--v-theme-quiet)); border-bottom: 3px solid transparent; }
.places a.here { color: rgb(var(--v-theme-on-surface)); border-color: rgb(var(--v-theme-primary)); font-weight: 560; }
.spring { flex: 1; }
.me b { font-weight: 560; color: rgb(var(--v-theme-on-surface)); }

.band { display: flex; gap: 10px; align-items: center; padding: 8px 24px; background: rgb(var(--v-theme-surface)); border-bottom: 1px solid rgb(var(--v-theme-line)); border-inline-start: 4px solid rgb(var(--v-theme-notice)); }
.band.stop { border-inline-start-color: rgb(var(--v-theme-stop)); }
.band .v-btn { margin-inline-start: auto; }
.gatehouse { max-width: 560px; padding-top: 10vh; }
.gatehouse h1 { font-size: 1.5rem; margin-bottom: 10px; }
.gatehouse p { margin-bottom: 8px; }
.ways { display: flex; gap: 18px; align-items: center; margin-top: 18px; }
.skip { position: absolute; left: -9999px; }
.skip:focus { left: 8px; top: 8px; z-index: 10; background: rgb(var(--v-theme-surface)); padding: 6px 10px; }
.where { display: none; }
.menu { display: flex; flex-direction: column; min-width: 220px; padding: 6px 0; background: rgb(var(--v-theme-surface)); border: 1px solid rgb(var(--v-theme-line)); }
.menu a { display: flex; align-items: center; gap: 10px; padding: 10px 16px; text-decoration: none; color: rgb(var(--v-theme-on-surface)); border-inline-start: 3px solid transparent; }
.menu a.here { border-color: rgb(var(--v-theme-primary)); font-weight: 560; }
.menu-me { padding: 10px 16px 6px; border-top: 1px solid rgb(var(--v-theme-line)); margin-top: 6px; }
/* Where names of places do not fit beside who one is, they have a line of their own, in whatever language. */
@media (max-width: 1560px) { .places { order: 8; flex-basis: 100%; margin-inline: -8px; } .places a { padding: 5px 8px; } .bar { padding-bottom: 0; } }
@media (max-width: 1100px) { .places .v-icon { display: none; } .places { flex-wrap: wrap; } }
@media (max-width: 700px) {
  .bar { flex-wrap: nowrap; padding: 4px 12px; }
  .places, .me { display: none; }
  .site { min-width: 0; margin: 0; font-size: 0; }
  .where { display: inline-flex; }
}
</style>
