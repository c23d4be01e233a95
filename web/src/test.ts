// Set up for unit tests: what the browser has and the test environment has not.
import 'fake-indexeddb/auto'
