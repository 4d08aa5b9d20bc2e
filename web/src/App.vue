<script setup lang="ts">
import { watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { who } from './api/session'
import TopBar from './components/TopBar.vue'

const route = useRoute()
const router = useRouter()

// A session that ended elsewhere leads to the sign-in and back.
watch(who, (now, before) => {
  if (now === null && before) router.replace({ path: '/sign-in', query: { to: route.fullPath } })
})
</script>

<template>
  <TopBar v-if="who" />
  <main id="content">
    <RouterView />
  </main>
</template>
