import { PlaceContext } from '../app/place.ts'
import { place } from './shown.tsx'
import { Actions, Fields, Forms, Letters, Texts, Toggles } from './to-fill-in.tsx'
import { Answers, Charts, Floats, Meant, Pictures, States, Tables, Views } from './to-look-at.tsx'

/** Every part that pages are made of, in every state that it can be in. What floats is opened by whoever looks. */
export function PartsPage() {
  return (
    <PlaceContext.Provider value={place}>
      <main id="main" className="mx-auto max-w-6xl px-6 py-8">
        <h1>Parts</h1>
        <Letters />
        <Actions />
        <Fields />
        <Toggles />
        <Views />
        <Floats />
        <Forms />
        <Tables />
        <Charts />
        <Texts />
        <Answers />
        <States />
        <Meant />
        <Pictures />
      </main>
    </PlaceContext.Provider>
  )
}
