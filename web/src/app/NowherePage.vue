<template>
  <div class="page">
    <h1 class="sentence">There is nothing at this address.</h1>
    <p class="under">Go to <RouterLink to="/">Readiness</RouterLink> or to the <RouterLink to="/runs">runs</RouterLink>.</p>
  </div>
</template>
