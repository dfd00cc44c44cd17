<script setup lang="ts">
// A state: disc for passed, diamond for stopped, triangle for notice, ring for the rest; always beside its word.
import type { Tone } from '../look/shape'
defineProps<{ tone: Tone }>()
</script>

<template>
  <svg class="mark" :class="tone" viewBox="0 0 12 12" width="11" height="11" aria-hidden="true">
    <circle v-if="tone === 'pass'" cx="6" cy="6" r="5" />
    <path v-else-if="tone === 'stop'" d="M6 0.4 11.6 6 6 11.6 0.4 6z" />
    <path v-else-if="tone === 'notice'" d="M6 0.8 11.8 11H0.2z" />
    <circle v-else class="ring" cx="6" cy="6" r="3.4" />
  </svg>
</template>

<style scoped>
.mark { flex: none; }
.pass { fill: rgb(var(--v-theme-pass)); }
.stop { fill: rgb(var(--v-theme-stop)); }
.notice { fill: rgb(var(--v-theme-notice)); }
.ring { fill: none; stroke: rgb(var(--v-theme-quiet)); stroke-width: 1.6; }
</style>
