<script setup lang="ts">
// What a trial looked at, value by value, with what to do where one is wrong.
import type { CheckVerdict, TrialAnswer } from '../api'
import { visible, type Tone } from '../look/shape'
import Mark from './Mark.vue'

defineProps<{ checks: TrialAnswer['checks'] }>()
const tones: Record<CheckVerdict, Tone> = { good: 'pass', wrong: 'stop', 'not known': 'quiet' }
</script>

<template>
  <ul class="checks">
    <li v-for="(c, i) in checks" :key="i" :class="tones[c.verdict]">
      <Mark :tone="tones[c.verdict]" /> <b>{{ c.value }}</b>
      <span>{{ visible(c.words) }}<template v-if="c.remedy"><br /><span class="next">→ {{ visible(c.remedy) }}</span></template></span>
    </li>
  </ul>
</template>

<style scoped>
.checks { list-style: none; padding: 0; margin: 0 0 8px; background: rgb(var(--v-theme-surface)); border: 1px solid rgb(var(--v-theme-line)); }
li { display: grid; grid-template-columns: 12px 150px minmax(0, 1fr); gap: 10px; align-items: baseline; padding: 5px 12px; overflow-wrap: anywhere; }
li + li { border-top: 1px solid rgb(var(--v-theme-line)); }
b { font-weight: 560; }
.stop b { color: rgb(var(--v-theme-stop)); }
@media (max-width: 600px) { li { grid-template-columns: 12px minmax(0, 1fr); } li > span { grid-column: 2; } }
</style>
