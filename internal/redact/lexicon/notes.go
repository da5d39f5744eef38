package lexicon

import "envask/internal/redact/chars"

// What people write in notes, tickets and letters, in the languages of the sites: words in small letters.

// NotedSecrets are words for what opens something. Of "mot de passe" and "palavra-passe" the last word counts.
var NotedSecrets = chars.WordSet(`password passwd passphrase passcode passwort kennwort zugangscode passord adgangskode kodeord lösenord
	wachtwoord toegangscode contraseña clave senha passe mdp heslo hasło jelszó jelszo salasana lozinka zaporka slaptažodis parole parolă
	şifre şifresi пароль пароля κωδικός pw pwd`)

// NotedAccounts are words for the name with which somebody logs in.
var NotedAccounts = chars.WordSet(`user username login account benutzer benutzername benutzerkonto anmeldename konto bruker brukernavn
	användare användarnamn bruger brugernavn gebruiker gebruikersnaam usuario usuário cuenta utilisateur identifiant compte utente uživatel
	użytkownik użytkownika felhasználó käyttäjä käyttäjätunnus tunnus korisnik kullanıcı пользователь логин inlog
	inlognaam`)

// NotedPhones are words for telephones.
var NotedPhones = chars.WordSet(`tel telefon tlf telefono teléfono téléphone telephone telefone telefoon tél tfno puhelin puh móvil movil
	mobil 	mobiel mobile cell handy cellulare komórka fax phone rufnummer durchwahl тел телефон`)

// NotedSpare are words before the codes that are kept for the day on which a telephone is lost.
var NotedSpare = chars.WordSet("backup recovery scratch emergency rescue spare")

// NotedBeforePeople are words behind which people are named.
var NotedBeforePeople = chars.WordSet(`from to by with for of or cc attn contact call called calls ask asked tell told informed thanks 
	regards thank owner engineer operator via met
	 saw phoned rang texted emailed mailed paged reached telling asking calling ringing informing
	holder courier signed driver visitor woke relieved briefed and says said
	von an mit bei für durch und rief anrief herr frau sagt gebeten
	van door met aan bij en belde gebeld
	de du par pour avec chez et appelé appela prévenu
	para por con y llamó llamo avisó llamado
	com e ligou da do di dal dalla chiamato chiamata
	med fra til av hos og ringte ringt snakket meldte
	från till och ringde pratade af talte
	od do dla z i zadzwonił zadzwoniła dzwonił volal volala zavolal soitti soittaa`)

// NotedIs are words and signs between such a word and what it is about.
var NotedIs = chars.WordSet(`is was now to = := -> => → ist lautet war auf jetzt nun is_now er ble nå är blev nu es era ahora est était
	maintenant 	é foi agora è era ora jest było je bylo on oli – -`)

// NotedFresh are words between one for a password and the password: provisional, new, old.
var NotedFresh = chars.WordSet(`new old temporary provisional initial neu neues neue alt altes nytt ny nye gammelt nieuw nieuwe oud
	nuevo nueva
	nouveau provisoire temporaire temporal provisional nuova provvisoria provvisorio temporanea nova provisória provisorio nowe nowy
	tymczasowe nové dočasné uusi väliaikainen új ideiglenes`)

// NotedExtensions are words before the short number of a telephone in a house.
var NotedExtensions = chars.WordSet("ext ext. durchwahl dw poste klappe toestel anexo anknytning " +
	"anknytningsnummer lokalnummer interno linka")

// Particles stand within names of people, in small letters: van der Berg.
var Particles = chars.WordSet("van von der den de da di dos das del della la le el al bin ibn ben ter ten zu zur af av mc mac san st")

// ServiceParts stand first or last in the names of the accounts of services.
var ServiceParts = chars.WordSet("svc srv app rw ro adm ops usr bot etl sync repl mon")
