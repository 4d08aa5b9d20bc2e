<template>
  <div class="mx-auto max-w-2xl px-4 py-10">
    <h1 class="text-xl font-semibold">There is no page at this address</h1>
    <p class="mt-2"><RouterLink to="/" class="text-verdigris underline">Go to the entries</RouterLink></p>
  </div>
</template>
