<template>
  <div class="mx-auto max-w-2xl px-4 py-10">
    <h1 class="text-xl font-semibold">There is no project here for you yet</h1>
    <p class="mt-2">An owner makes one, and gives you a role in it:</p>
    <code class="mt-3 block border border-line bg-raised p-3 font-mono text-sm whitespace-pre-wrap">adytum project add NAME
adytum environment add --project NAME live
adytum grant add editor --project NAME --person YOU</code>
  </div>
</template>
